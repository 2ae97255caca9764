package dripledger.connectors.drip;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;

/** The text of a column's type, as {@link ColumnType#sql} writes it, read back. Single use. */
final class TypeText {
  private final String text;
  private int at;

  private TypeText(String text) {
    this.text = text;
  }

  /**
   * Reads a type; it is nullable.
   *
   * @throws EngineException if it is not one we know
   */
  static ColumnType parse(String text) {
    TypeText parser = new TypeText(text);
    ColumnType type = parser.type();
    if (parser.at < text.length()) {
      throw parser.unknown();
    }
    return type;
  }

  private EngineException unknown() {
    return new EngineException(
        Code.FAILED, "there is a column of type " + text + ", which is not known here", null);
  }

  private ColumnType type() {
    String name = word().toUpperCase(Locale.ROOT);
    ColumnType type;
    switch (name) {
      case "ROW" -> type = ColumnType.row(fields());
      case "DECIMAL" -> {
        List<Integer> numbers = numbers();
        type =
            numbers.size() == 2
                ? ColumnType.decimal(numbers.get(0), numbers.get(1))
                : ColumnType.decimal(38, 0);
      }
      case "VARCHAR" -> {
        List<Integer> numbers = numbers();
        type = ColumnType.varchar(numbers.isEmpty() ? -1 : numbers.get(0));
      }
      case "INTERVAL" -> {
        boolean months = text.startsWith(" YEAR", at);
        at = text.length();
        type = ColumnType.of(months ? Kind.INTERVAL_YEAR_MONTH : Kind.INTERVAL_DAY_TIME);
      }
      default -> {
        try {
          type = ColumnType.of(Kind.valueOf(name));
        } catch (IllegalArgumentException e) {
          throw unknown();
        }
      }
    }
    while (text.startsWith(" ARRAY", at)) {
      at += " ARRAY".length();
      type = ColumnType.array(type.withNullable(true));
    }
    return type;
  }

  private List<Column> fields() {
    List<Column> fields = new ArrayList<>();
    expect('(');
    do {
      fields.add(new Column(name(), type().withNullable(true)));
    } while (next(", "));
    expect(')');
    return fields;
  }

  private String name() {
    String name = text.startsWith("\"", at) ? quoted() : word();
    expect(' ');
    return name;
  }

  private String quoted() {
    int end = text.indexOf('"', at + 1);
    if (end < 0) {
      throw unknown();
    }
    String name = text.substring(at + 1, end);
    at = end + 1;
    return name;
  }

  private List<Integer> numbers() {
    List<Integer> numbers = new ArrayList<>();
    if (next("(")) {
      do {
        next(" ");
        numbers.add(Integer.valueOf(word()));
      } while (next(","));
      expect(')');
    }
    return numbers;
  }

  private String word() {
    int from = at;
    while (at < text.length()
        && (Character.isLetterOrDigit(text.charAt(at)) || text.charAt(at) == '_')) {
      at++;
    }
    if (at == from) {
      throw unknown();
    }
    return text.substring(from, at);
  }

  private boolean next(String what) {
    boolean there = text.startsWith(what, at);
    at += there ? what.length() : 0;
    return there;
  }

  private void expect(char c) {
    if (at >= text.length() || text.charAt(at++) != c) {
      throw unknown();
    }
  }
}
