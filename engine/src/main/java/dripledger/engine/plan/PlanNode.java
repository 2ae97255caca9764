package dripledger.engine.plan;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.ProgramCompiler.CompiledProgram;
import dripledger.engine.row.Schema;
import java.util.List;
import java.util.Map;

/** A node of a physical plan; its inputs feed it deltas. */
public sealed interface PlanNode {
  Schema schema();

  List<PlanNode> inputs();

  /** Whether this node never takes out a row it put in. */
  boolean appendOnly();

  /** Columns proven unique together, in order; an empty array: at most one row; null: not known. */
  int[] key();

  /**
   * A relation of the catalog.
   *
   * @param relationId its number
   */
  record Source(long relationId, String name, Schema schema, boolean appendOnly, int[] key)
      implements PlanNode {
    @Override
    public List<PlanNode> inputs() {
      return List.of();
    }
  }

  /** Constant rows, in boxed form. */
  record Values(Schema schema, List<Object[]> rows) implements PlanNode {
    @Override
    public List<PlanNode> inputs() {
      return List.of();
    }

    @Override
    public boolean appendOnly() {
      return true;
    }

    @Override
    public int[] key() {
      return rows.size() <= 1 ? new int[0] : null;
    }
  }

  /**
   * Filter and projection in one.
   *
   * @param filter the condition as text, or null
   * @param projections the output expressions as text
   * @param equalities columns of the input that the filter holds to one value, boxed: who reads the
   *     input may leave all other rows out
   */
  record Transform(
      PlanNode input,
      CompiledProgram program,
      String filter,
      List<String> projections,
      Map<Integer, Object> equalities,
      Schema schema,
      int[] key)
      implements PlanNode {
    @Override
    public List<PlanNode> inputs() {
      return List.of(input);
    }

    @Override
    public boolean appendOnly() {
      return input.appendOnly();
    }
  }

  /** GROUP BY; without group columns it always has exactly one row. DISTINCT has no calls. */
  record Aggregate(PlanNode input, int[] groupColumns, List<AggregateCall> calls, Schema schema)
      implements PlanNode {
    @Override
    public List<PlanNode> inputs() {
      return List.of(input);
    }

    @Override
    public boolean appendOnly() {
      return calls.isEmpty() && groupColumns.length > 0 && input.appendOnly();
    }

    @Override
    public int[] key() {
      int[] key = new int[groupColumns.length];
      for (int i = 0; i < key.length; i++) {
        key[i] = i;
      }
      return key;
    }
  }

  /** All rows of all inputs. */
  record UnionAll(List<PlanNode> inputs, Schema schema) implements PlanNode {
    @Override
    public boolean appendOnly() {
      return inputs.stream().allMatch(PlanNode::appendOnly);
    }

    @Override
    public int[] key() {
      return null;
    }
  }
}
