package dripledger.engine.expr;

import dripledger.engine.expr.Code.Value;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;

/**
 * Turns a {@link Program} into a {@link RowProgram}. Each output column and the filter become a
 * method of their own, so that the JIT compiles each and none grows past its limits. Equal programs
 * share one generated class. Stateless; safe from any thread.
 */
public final class ProgramCompiler {
  private final Code code = new Code();
  private final ConversionCode conversions = new ConversionCode(code);
  private final RowLayout in;
  private final RowLayout out;
  private final ExpressionCode expressions;

  private ProgramCompiler(Program program) {
    in = new RowLayout(program.input());
    out = new RowLayout(program.output());
    expressions = new ExpressionCode(code, in, conversions);
  }

  /**
   * Compiles a program.
   *
   * @throws dripledger.engine.error.EngineException (NOT_SUPPORTED) if an expression uses something
   *     we do not have
   */
  public static CompiledProgram compile(Program program) {
    return new ProgramCompiler(program).write(program);
  }

  /**
   * A program with the layouts it was compiled for.
   *
   * @param identity whether it passes every row on as it is
   * @param columnar whether there is {@link RowProgram#columns}
   */
  public record CompiledProgram(
      RowProgram program, RowLayout input, RowLayout output, boolean identity, boolean columnar) {}

  private CompiledProgram write(Program program) {
    StringBuilder methods = new StringBuilder();
    StringBuilder run = new StringBuilder();
    if (program.filter() != null) {
      methods.append(filter(program.filter()));
      run.append("    if (!filter(b, o)) { return false; }\n");
    }
    for (int i = 0; i < program.outputs().size(); i++) {
      methods.append(column(i, program.outputs().get(i)));
      run.append("    column").append(i).append("(b, o, out);\n");
    }
    boolean columnar = isColumnar(program);
    for (int i = 0; columnar && i < program.outputs().size(); i++) {
      methods.append(slot(i, program.outputs().get(i)));
    }
    String source =
        "public final class "
            + GeneratedCode.NAME
            + " extends dripledger.engine.expr.RowProgram {\n"
            + "  private final dripledger.engine.row.RowLayout[] layouts;\n  public "
            + GeneratedCode.NAME
            + "(dripledger.engine.row.RowLayout[] layouts, long[] numbers, String[] texts) {"
            + " this.layouts = layouts;"
            + code.assignments()
            + " }\n"
            + code.fields()
            + "  public boolean run(byte[] b, int o, dripledger.engine.row.RowWriter out) {\n"
            + run
            + "    return true;\n  }\n"
            + (columnar ? columns(program) : "")
            + methods
            + "}\n";
    return new CompiledProgram(instantiate(source, code), in, out, program.isIdentity(), columnar);
  }

  private String filter(Expr condition) {
    code.begin();
    Value v = expressions.write(condition);
    return "  private boolean filter(byte[] b, int o) {\n"
        + code.body()
        + "    return "
        + (v.neverNull() ? v.value() : "!" + Code.paren(v.isNull()) + " && " + v.value())
        + ";\n  }\n";
  }

  private String column(int column, Expr expr) {
    code.begin();
    ColumnType type = out.schema().type(column);
    if (expr instanceof Expr.Column c && sameStorage(in.schema().type(c.index()), type)) {
      code.line("out.copy(%d, %s, b, o, %d);", column, code.layout(in), c.index());
    } else {
      Value v = expressions.write(expr);
      String set = setter(column, type, v);
      if (v.neverNull()) {
        code.line("%s", set);
      } else if (type.nullable()) {
        code.line("if (%s) { out.setNull(%d); } else { %s }", v.isNull(), column, set);
      } else {
        code.line("if (%s) { %s } else { %s }", v.isNull(), mustNotBeNull(column), set);
      }
    }
    return "  private void column"
        + column
        + "(byte[] b, int o, dripledger.engine.row.RowWriter out) {\n"
        + code.body()
        + "  }\n";
  }

  /** Whether all columns are of fixed size and few enough, and decimals only passed on. */
  private boolean isColumnar(Program program) {
    int size = program.outputs().size();
    for (int i = 0; i < size; i++) {
      ColumnType type = out.schema().type(i);
      boolean passed =
          program.outputs().get(i) instanceof Expr.Column c
              && sameStorage(in.schema().type(c.index()), type);
      if (type.isVariable() || type.kind() == Kind.DECIMAL && !passed) {
        return false;
      }
    }
    return size <= Long.SIZE;
  }

  private static String columns(Program program) {
    StringBuilder run = new StringBuilder();
    run.append("  public boolean columns(byte[] b, int o, long[][] c, long[] nulls, int i) {\n");
    if (program.filter() != null) {
      run.append("    if (!filter(b, o)) { return false; }\n");
    }
    for (int i = 0; i < program.outputs().size(); i++) {
      run.append("    slot" + i + "(b, o, c[" + i + "], nulls, i);\n");
    }
    return run.append("    return true;\n  }\n").toString();
  }

  /** The method that sets one column's slot. */
  private String slot(int column, Expr expr) {
    code.begin();
    ColumnType type = out.schema().type(column);
    String setNull = "nulls[i] |= " + (1L << column) + "L; c[i] = 0;";
    Value v;
    String set;
    if (expr instanceof Expr.Column c && sameStorage(in.schema().type(c.index()), type)) {
      int index = c.index();
      String isNull = "(b[o + " + (index >>> 3) + "] & " + (1 << (index & 7)) + ") != 0";
      v = new Value(type.kind(), "", in.schema().type(index).nullable() ? isNull : "false");
      set = "c[i] = dripledger.engine.row.Bytes.getLong(b, o + " + in.slotOffset(index) + ");";
    } else {
      v = expressions.write(expr);
      set = "c[i] = " + slotValue(type, v) + ";";
    }
    if (v.neverNull()) {
      code.line("%s", set);
    } else if (type.nullable()) {
      code.line("if (%s) { %s } else { %s }", v.isNull(), setNull, set);
    } else {
      code.line("if (%s) { %s } else { %s }", v.isNull(), mustNotBeNull(column), set);
    }
    return "  private void slot"
        + column
        + "(byte[] b, int o, long[] c, long[] nulls, int i) {\n"
        + code.body()
        + "  }\n";
  }

  private String slotValue(ColumnType type, Value v) {
    String value = conversions.convert(v, type.kind()).value();
    return switch (type.kind()) {
      case BOOLEAN -> "(" + value + ") ? 1L : 0L";
      case REAL, DOUBLE -> "dripledger.engine.row.RowWriter.slotOf(" + value + ")";
      default -> value;
    };
  }

  private String mustNotBeNull(int column) {
    return "throw new NullPointerException("
        + Code.quote(out.schema().column(column).name() + " must not be NULL")
        + ");";
  }

  private static boolean sameStorage(ColumnType a, ColumnType b) {
    if (a.kind() != b.kind()) {
      return false;
    }
    return a.kind() != Kind.DECIMAL || a.scale() == b.scale() && a.isVariable() == b.isVariable();
  }

  private String setter(int column, ColumnType type, Value v) {
    Value value = conversions.convert(v, type.kind());
    return switch (type.kind()) {
      case BOOLEAN -> "out.setBoolean(" + column + ", " + value.value() + ");";
      case REAL, DOUBLE -> "out.setDouble(" + column + ", " + value.value() + ");";
      case DECIMAL -> "out.setDecimal(" + column + ", " + value.value() + ");";
      case VARCHAR -> "out.setString(" + column + ", " + value.value() + ");";
      case VARBINARY, ROW, ARRAY ->
          "out.setBytes(" + column + ", " + value.value() + ", 0, " + value.value() + ".length);";
      default -> "out.setLong(" + column + ", " + value.value() + ");";
    };
  }

  private static RowProgram instantiate(String source, Code code) {
    try {
      return (RowProgram)
          GeneratedCode.compile("Program", source)
              .getDeclaredConstructor(RowLayout[].class, long[].class, String[].class)
              .newInstance(code.layouts(), code.numbers(), code.texts());
    } catch (ReflectiveOperationException e) {
      throw new IllegalStateException("generated code cannot be used:\n" + source, e);
    }
  }
}
