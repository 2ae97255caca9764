package dripledger.engine.expr;

import dripledger.engine.EngineException;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.util.List;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexUtil;

/**
 * Turns a filter and a projection into one compiled {@link RowProgram}. Each output column and the
 * filter become a method of their own, so that the JIT compiles each and none grows past its
 * limits. Safe from any thread.
 */
public final class ProgramCompiler {
  private final RexBuilder rexBuilder;
  private final Long now;

  /**
   * @param now the time CURRENT_TIMESTAMP stands for, in microseconds since 1970, or null where the
   *     clock must not be asked (a view's rows would depend on when they were computed)
   */
  public ProgramCompiler(RexBuilder rexBuilder, Long now) {
    this.rexBuilder = rexBuilder;
    this.now = now;
  }

  /**
   * Compiles a program.
   *
   * @param filter the condition, or null for none
   * @throws EngineException (NOT_SUPPORTED) if an expression uses something we do not have
   */
  public CompiledProgram compile(
      Schema input, RexNode filter, List<RexNode> projects, Schema output) {
    RowLayout in = new RowLayout(input);
    RowLayout out = new RowLayout(output);
    boolean identity = filter == null && isIdentity(projects, input.size());
    CodeWriter code = new CodeWriter(in, now);
    StringBuilder methods = new StringBuilder();
    StringBuilder run = new StringBuilder();
    if (filter != null) {
      methods.append(code.predicateMethod("filter", expand(filter)));
      run.append("    if (!filter(b, o)) { return false; }\n");
    }
    for (int i = 0; i < projects.size(); i++) {
      methods.append(code.columnMethod("column" + i, i, expand(projects.get(i)), out));
      run.append("    column").append(i).append("(b, o, out);\n");
    }
    String source =
        "public final class "
            + GeneratedCode.NAME
            + " extends dripledger.engine.expr.RowProgram {\n"
            + "  private final dripledger.engine.row.RowLayout[] layouts;\n  public "
            + GeneratedCode.NAME
            + "(dripledger.engine.row.RowLayout[] layouts) { this.layouts = layouts; }\n"
            + code.fields()
            + "  public boolean run(byte[] b, int o, dripledger.engine.row.RowWriter out) {\n"
            + run
            + "    return true;\n  }\n"
            + methods
            + "}\n";
    return new CompiledProgram(instantiate(source, code.layouts()), in, out, identity);
  }

  private RexNode expand(RexNode node) {
    return RexUtil.expandSearch(rexBuilder, null, node);
  }

  private static boolean isIdentity(List<RexNode> projects, int columns) {
    if (projects.size() != columns) {
      return false;
    }
    for (int i = 0; i < columns; i++) {
      if (!(projects.get(i) instanceof RexInputRef ref) || ref.getIndex() != i) {
        return false;
      }
    }
    return true;
  }

  private static RowProgram instantiate(String source, RowLayout[] layouts) {
    try {
      return (RowProgram)
          GeneratedCode.compile("Program", source)
              .getDeclaredConstructor(RowLayout[].class)
              .newInstance((Object) layouts);
    } catch (ReflectiveOperationException e) {
      throw new IllegalStateException("generated code cannot be used:\n" + source, e);
    }
  }

  /**
   * A program with the layouts it was compiled for.
   *
   * @param identity whether it passes every row on as it is
   */
  public record CompiledProgram(
      RowProgram program, RowLayout input, RowLayout output, boolean identity) {}
}
