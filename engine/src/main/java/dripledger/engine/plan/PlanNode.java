package dripledger.engine.plan;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Program;
import dripledger.engine.expr.WindowCall;
import dripledger.engine.row.Column;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import java.util.ArrayList;
import java.util.Collections;
import java.util.List;
import java.util.Map;

/**
 * A node of a physical plan; its inputs feed it deltas. Immutable data: no code, no state, equal if
 * all of its parts are equal.
 */
public sealed interface PlanNode
    permits PlanNode.OfOne,
        PlanNode.Source,
        PlanNode.Values,
        PlanNode.Join,
        PlanNode.UnionAll,
        Paced {
  Schema schema();

  List<PlanNode> inputs();

  /** Whether this node never takes out a row it put in. */
  boolean appendOnly();

  /** Columns proven unique together, in order; empty: at most one row; null: not known. */
  List<Integer> key();

  /** Does what is right for the kind of node. */
  <T> T accept(PlanVisitor<T> visitor);

  /** A node with one input. */
  sealed interface OfOne extends PlanNode
      permits Transform,
          Aggregate,
          Repeat,
          Unnest,
          Window,
          Matches,
          Nearest,
          TableVersions,
          TimeNode {
    PlanNode input();

    @Override
    default List<PlanNode> inputs() {
      return List.of(input());
    }
  }

  /**
   * A relation of the catalog.
   *
   * @param relationId its number
   * @param byKey whether each row is found by the key where it is kept: a table, a step, a view
   * @param times the columns that are times its watermark speaks of, see {@link EventTimes}
   */
  record Source(
      long relationId,
      String name,
      Schema schema,
      boolean appendOnly,
      List<Integer> key,
      boolean byKey,
      Map<Integer, EventTime> times)
      implements PlanNode {
    public Source {
      times = Map.copyOf(times);
    }

    /** What has no times. */
    public Source(
        long relationId,
        String name,
        Schema schema,
        boolean appendOnly,
        List<Integer> key,
        boolean byKey) {
      this(relationId, name, schema, appendOnly, key, byKey, Map.of());
    }

    /** What is not found by its key and has no times. */
    public Source(
        long relationId, String name, Schema schema, boolean appendOnly, List<Integer> key) {
      this(relationId, name, schema, appendOnly, key, false);
    }

    @Override
    public List<PlanNode> inputs() {
      return List.of();
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.source(this);
    }
  }

  /** Constant rows, in boxed form; what is missing is null. */
  record Values(Schema schema, List<List<Object>> rows) implements PlanNode {
    public Values {
      rows = rows.stream().map(r -> Collections.unmodifiableList(new ArrayList<>(r))).toList();
    }

    @Override
    public List<PlanNode> inputs() {
      return List.of();
    }

    @Override
    public boolean appendOnly() {
      return true;
    }

    @Override
    public List<Integer> key() {
      return rows.size() <= 1 ? List.of() : null;
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.values(this);
    }
  }

  /** Filter and projection in one. */
  record Transform(PlanNode input, Program program) implements OfOne {
    @Override
    public Schema schema() {
      return program.output();
    }

    @Override
    public boolean appendOnly() {
      return input.appendOnly();
    }

    @Override
    public List<Integer> key() {
      return program.whereIsKnown(input.key());
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.transform(this);
    }
  }

  /**
   * GROUP BY; without group columns it always has exactly one row. DISTINCT has no calls.
   *
   * @param ending when groups end, or null for never
   */
  record Aggregate(
      PlanNode input,
      List<Integer> groupColumns,
      List<AggregateCall> calls,
      Schema schema,
      Ending ending)
      implements OfOne {
    public Aggregate {
      groupColumns = List.copyOf(groupColumns);
      calls = List.copyOf(calls);
    }

    /** One whose groups never end. */
    public Aggregate(
        PlanNode input, List<Integer> groupColumns, List<AggregateCall> calls, Schema schema) {
      this(input, groupColumns, calls, schema, null);
    }

    /** Whether rows are put out only once they can no longer change. */
    public boolean publishesEnds() {
      return ending != null && ending.publishes();
    }

    @Override
    public boolean appendOnly() {
      boolean grows = calls.isEmpty() && !groupColumns.isEmpty() && input.appendOnly();
      return publishesEnds() || grows && ending == null;
    }

    @Override
    public List<Integer> key() {
      List<Integer> key = new ArrayList<>();
      for (int i = 0; i < groupColumns.size(); i++) {
        key.add(i);
      }
      return key;
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.aggregate(this);
    }
  }

  /**
   * Pairs of rows of two inputs whose keys are equal and that meet a condition.
   *
   * @param leftKeys columns of the left input, each to be equal to that of the right
   * @param nullMatches for each of them whether NULL equals NULL, if there can be any on both sides
   * @param condition on the columns of both, left then right; or null for none
   */
  record Join(
      PlanNode left,
      PlanNode right,
      JoinKind kind,
      List<Integer> leftKeys,
      List<Integer> rightKeys,
      List<Boolean> nullMatches,
      Expr condition,
      Schema schema)
      implements PlanNode {
    public Join {
      leftKeys = List.copyOf(leftKeys);
      rightKeys = List.copyOf(rightKeys);
      nullMatches = JoinKeys.nullMatches(left, leftKeys, right, rightKeys, nullMatches);
    }

    /**
     * Which input is a relation that is kept by a key, so that its rows need not be kept once more:
     * they are looked up where they are, by that key if it is what they are joined on, else by an
     * index of the join. −1 if none is, or if its rows have to know whether they have met any.
     */
    public int table() {
      return JoinKeys.table(this);
    }

    /** Whether what {@link #table} says is looked up by its key. */
    public boolean byKey() {
      return JoinKeys.byKey(this) >= 0;
    }

    /** When a row of an input can meet no more of the other, or null for never. */
    public Ending ending(int side) {
      return JoinTimes.ending(this, side);
    }

    /**
     * Whether the rows of the input that {@link #table} does not say are looked up where they are,
     * too, as they were before they changed, so that the join keeps none at all.
     */
    public boolean bothElsewhere() {
      return JoinKeys.bothElsewhere(this);
    }

    /** The relation that an input is, or columns of it, if its rows are kept by a key; or null. */
    public Source kept(int side) {
      return JoinKeys.kept(inputs().get(side));
    }

    /** The columns of both inputs. */
    public Schema pairSchema() {
      List<Column> columns = new ArrayList<>(left.schema().columns());
      columns.addAll(right.schema().columns());
      return new Schema(columns);
    }

    /** The condition as a filter that puts out nothing. */
    public Program conditionProgram() {
      return new Program(pairSchema(), condition, List.of(), new Schema(List.of()));
    }

    @Override
    public List<PlanNode> inputs() {
      return List.of(left, right);
    }

    @Override
    public boolean appendOnly() {
      boolean grows = kind == JoinKind.INNER || kind == JoinKind.SEMI;
      return grows && left.appendOnly() && right.appendOnly();
    }

    @Override
    public List<Integer> key() {
      return JoinKeys.key(this);
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.join(this);
    }
  }

  /** Each row of the input as often as its last column, which is left out, says. */
  record Repeat(PlanNode input, Schema schema) implements OfOne {
    @Override
    public boolean appendOnly() {
      return input.appendOnly();
    }

    @Override
    public List<Integer> key() {
      return null;
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.repeat(this);
    }
  }

  /**
   * For each row of the input one row for each element of its arrays, side by side if they are
   * several.
   *
   * @param kept how many columns of the input are put out; the rest are arrays
   * @param ordinality whether the last column says which element it is, from 1 on
   * @param outer whether a row of which there is no element is put out too, with NULLs
   * @param schema the columns kept, then of each array its element, or the fields of one that is a
   *     ROW
   */
  record Unnest(PlanNode input, int kept, boolean ordinality, boolean outer, Schema schema)
      implements OfOne {
    @Override
    public boolean appendOnly() {
      return input.appendOnly();
    }

    @Override
    public List<Integer> key() {
      List<Integer> key = input.key();
      if (!ordinality || outer || key == null || key.stream().anyMatch(c -> c >= kept)) {
        return null;
      }
      List<Integer> all = new ArrayList<>(key);
      all.add(schema.size() - 1);
      return all;
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.unnest(this);
    }
  }

  /**
   * The rows of the input with what functions say of each among the rows of its partition, in an
   * order; ties are decided by the rows' own columns, so that they are decided alike every time.
   *
   * @param partition columns of the input
   * @param kept which rows are put out, by their place; null for all
   * @param schema the columns of the input, then those of the calls
   */
  record Window(
      PlanNode input,
      List<Integer> partition,
      List<SortKey> order,
      List<WindowCall> calls,
      KeptPlaces kept,
      Schema schema)
      implements OfOne {
    public Window {
      partition = List.copyOf(partition);
      order = List.copyOf(order);
      calls = List.copyOf(calls);
    }

    /** When a partition changes no more, by a time that its rows have in common; null for never. */
    public Ending ending() {
      return EventTimes.ending(input, partition);
    }

    /**
     * How many rows of a partition are needed, if nothing is ever taken out: those that are put
     * out, and as many behind them as functions look ahead; −1 for all.
     */
    public long rowsNeeded() {
      if (kept == null || kept.ranking() != WindowCall.Function.ROW_NUMBER || !input.appendOnly()) {
        return -1;
      }
      if (calls.stream().anyMatch(call -> call.rowsAhead() < 0)) {
        return -1;
      }
      long ahead = calls.stream().mapToLong(WindowCall::rowsAhead).max().orElse(0);
      return kept.to() > Long.MAX_VALUE - ahead ? -1 : kept.to() + ahead;
    }

    @Override
    public boolean appendOnly() {
      return false;
    }

    @Override
    public List<Integer> key() {
      return kept != null && kept.isOne() ? partition : input.key();
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.window(this);
    }
  }

  /** All rows of all inputs. */
  record UnionAll(List<PlanNode> inputs, Schema schema) implements PlanNode {
    public UnionAll {
      inputs = List.copyOf(inputs);
    }

    @Override
    public boolean appendOnly() {
      return inputs.stream().allMatch(PlanNode::appendOnly);
    }

    @Override
    public List<Integer> key() {
      return null;
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.unionAll(this);
    }
  }
}
