package dripledger.engine.expr;

import dripledger.engine.error.EngineException;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;

/**
 * The Java of one generated class while it is being written: fields, and the body of one method
 * after the other. Single use, single thread.
 */
final class Code {
  static final String TEXT = TextBuiltins.class.getName() + ".";
  static final String NUMBERS = NumberBuiltins.class.getName() + ".";
  static final String TIMES = TimeBuiltins.class.getName() + ".";
  static final String CASTS = "dripledger.engine.expr.Casts.";

  /**
   * A value in generated code.
   *
   * @param value an expression of {@link #javaType}
   * @param isNull an expression that tells whether it is NULL: "false" or "true" where that is
   *     known
   */
  record Value(Kind kind, String value, String isNull) {
    boolean neverNull() {
      return isNull.equals("false");
    }

    boolean alwaysNull() {
      return isNull.equals("true");
    }

    /** NULL as a value of a kind. */
    static Value nothing(Kind kind) {
      String none = defaultOf(kind);
      return new Value(
          kind, none.equals("null") ? "((" + javaType(kind) + ") null)" : none, "true");
    }
  }

  private final StringBuilder fields = new StringBuilder();
  private final List<RowLayout> layouts = new ArrayList<>();
  private final List<Long> numbers = new ArrayList<>();
  private final List<String> texts = new ArrayList<>();
  private StringBuilder body = new StringBuilder();
  private int names;
  private boolean json;
  private boolean arrays;

  /** The fields written so far. */
  String fields() {
    return fields.toString();
  }

  /** What the constructor of the generated class must be given. */
  RowLayout[] layouts() {
    return layouts.toArray(new RowLayout[0]);
  }

  /** What the constructor is given for {@link #number}. */
  long[] numbers() {
    return numbers.stream().mapToLong(n -> n).toArray();
  }

  /** What the constructor is given for {@link #text}. */
  String[] texts() {
    return texts.toArray(new String[0]);
  }

  /** What the constructor does with numbers and texts. */
  String assignments() {
    StringBuilder out = new StringBuilder();
    for (int i = 0; i < numbers.size(); i++) {
      out.append(String.format(" number%1$d = numbers[%1$d];", i));
    }
    for (int i = 0; i < texts.size(); i++) {
      out.append(String.format(" text%1$d = texts[%1$d];", i));
    }
    return out.toString();
  }

  /** The field of a number that is no part of the source: the same class does for others. */
  String number(long value) {
    String name = "number" + numbers.size();
    numbers.add(value);
    fields.append("  private final long ").append(name).append(";\n");
    return name;
  }

  /** The field of a text, in the same way. */
  String text(String value) {
    String name = "text" + texts.size();
    texts.add(value);
    fields.append("  private final String ").append(name).append(";\n");
    return name;
  }

  /** Begins another method. */
  void begin() {
    body = new StringBuilder();
  }

  /** The body of the method as written so far. */
  String body() {
    return body.toString();
  }

  /** A name that is not used yet. */
  String name() {
    return "v" + names++;
  }

  void line(String format, Object... args) {
    body.append("    ").append(String.format(Locale.ROOT, format, args)).append('\n');
  }

  /** A constant field; answers its name. */
  String constant(String type, String initializer) {
    String name = "K" + names++;
    fields.append(String.format("  private static final %s %s = %s;%n", type, name, initializer));
    return name;
  }

  /** The field that holds a layout, set by the constructor. */
  String layout(RowLayout layout) {
    int index = layouts.indexOf(layout);
    if (index < 0) {
      index = layouts.size();
      layouts.add(layout);
    }
    return "layouts[" + index + "]";
  }

  /** The field with what JSON functions keep between rows. */
  String json() {
    if (!json) {
      fields.append(
          "  private final dripledger.engine.expr.JsonBuiltins json ="
              + " new dripledger.engine.expr.JsonBuiltins();\n");
      json = true;
    }
    return "json";
  }

  /** The field with what reads arrays. */
  String arrays() {
    if (!arrays) {
      String name = ArrayBuiltins.class.getName();
      fields.append("  private final " + name + " arrays = new " + name + "();\n");
      arrays = true;
    }
    return "arrays";
  }

  /** Declares a value that is computed only if none of the arguments is NULL. */
  Value strict(Kind kind, List<Value> args, String expression) {
    String v = name();
    String isNull = either(args);
    if (isNull.equals("false")) {
      line("%s %s = %s;", javaType(kind), v, expression);
    } else {
      String n = name();
      line("boolean %s = %s;", n, isNull);
      line("%s %s = %s;", javaType(kind), v, defaultOf(kind));
      line("if (!%s) { %s = %s; }", n, v, expression);
      isNull = n;
    }
    return new Value(kind, v, isNull);
  }

  static String either(List<Value> values) {
    List<String> parts =
        values.stream().map(Value::isNull).filter(s -> !s.equals("false")).distinct().toList();
    return parts.isEmpty() ? "false" : String.join(" || ", parts);
  }

  static String paren(String s) {
    return s.matches("\\w+") ? s : "(" + s + ")";
  }

  static String javaType(Kind kind) {
    return switch (kind) {
      case BOOLEAN -> "boolean";
      case REAL, DOUBLE -> "double";
      case DECIMAL -> "java.math.BigDecimal";
      case VARCHAR -> "String";
      case VARBINARY, ROW, ARRAY -> "byte[]";
      default -> "long";
    };
  }

  static String defaultOf(Kind kind) {
    return switch (javaType(kind)) {
      case "boolean" -> "false";
      case "double" -> "0d";
      case "long" -> "0L";
      default -> "null";
    };
  }

  static EngineException unsupported(String what) {
    return new EngineException(
        EngineException.Code.NOT_SUPPORTED, "not supported yet: " + what, null);
  }

  /** A text as a Java literal. */
  static String quote(String s) {
    StringBuilder out = new StringBuilder("\"");
    for (int i = 0; i < s.length(); i++) {
      char c = s.charAt(i);
      if (c == '"' || c == '\\') {
        out.append('\\').append(c);
      } else if (c < 0x20 || c > 0x7E) {
        out.append(String.format("\\u%04x", (int) c));
      } else {
        out.append(c);
      }
    }
    String quoted = out.append('"').toString();
    // These would end the literal if written as unicode escapes.
    return quoted.replace("\\u000a", "\\n").replace("\\u000d", "\\r");
  }
}
