package dripledger.engine.circuit;

import dripledger.engine.expr.Program;
import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.expr.RowProgram;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.util.Arrays;
import java.util.List;

/**
 * How a relation's rows are made of the rows of a grouped step, and in which order they are found.
 * Belongs to one relation; safe from any thread.
 */
final class Finish {
  private final RowProgram program; // or null: the step's rows as they are
  private final boolean passesEveryRow;
  private final RowLayout layout;
  private final int[] key;
  private final int[] groupColumns;
  private volatile GroupOrder order;

  private Finish(Program program, RowLayout layout, int[] key, int[] groupColumns) {
    this.program =
        program == null || program.isIdentity() ? null : ProgramCompiler.compile(program).program();
    passesEveryRow = program == null || program.isIdentity() || program.onlyPicks();
    this.layout = layout;
    this.groupColumns = groupColumns;
    this.key = key == null ? new int[layout.columns()] : key;
    if (key == null) {
      Arrays.setAll(this.key, i -> i);
    }
  }

  /** The step's own rows. */
  static Finish none(PlanNode.Aggregate step) {
    int[] key = new int[step.groupColumns().size()];
    Arrays.setAll(key, i -> i);
    RowLayout layout = new RowLayout(step.schema());
    return new Finish(null, layout, key, key.length == 0 ? null : key);
  }

  /**
   * @param top what is made of the step
   * @param key the columns rows are ordered and found by, or null for all
   */
  static Finish of(PlanNode top, PlanNode.Source step, Schema schema, int[] key) {
    Program program = top instanceof PlanNode.Transform t ? t.program() : null;
    return new Finish(program, new RowLayout(schema), key, groupColumns(top, step, key));
  }

  /** For each group column which column of the relation it is; null if they are not its key. */
  private static int[] groupColumns(PlanNode top, PlanNode.Source step, int[] key) {
    List<Integer> places = top.key(); // where the group columns are, if they all are there
    int groups = step.key().size();
    if (key == null || groups == 0 || key.length != groups || places == null) {
      return null;
    }
    int[] moved = places.stream().mapToInt(Integer::intValue).toArray();
    for (int k : key) {
      if (Arrays.stream(moved).noneMatch(m -> m == k)) {
        return null;
      }
    }
    return moved;
  }

  /** What is made of a group's row, or null if it stays as it is. */
  RowProgram program() {
    return program;
  }

  /** Whether every row of the step is a row of the relation, and none can fail. */
  boolean passesEveryRow() {
    return passesEveryRow;
  }

  RowLayout layout() {
    return layout;
  }

  /** The columns rows are ordered by. */
  int[] key() {
    return key;
  }

  /** For each group column which column of the relation it is, or null: the key is another. */
  int[] groupColumns() {
    return groupColumns;
  }

  /** Blocks in the order of the key, as somebody has sorted them; or null. */
  GroupOrder order() {
    return order;
  }

  void order(GroupOrder sorted) {
    order = sorted;
  }
}
