package dripledger.engine.sql;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.expr.Program;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.List;
import java.util.stream.IntStream;
import org.apache.calcite.rel.core.Intersect;
import org.apache.calcite.rel.core.SetOp;

/**
 * INTERSECT and EXCEPT as a plan: how often each row is on the left and on the right is counted,
 * and decides how often it is in the result. Single use.
 */
final class SetOperations {
  static final ColumnType FLAG = ColumnType.of(Kind.BOOLEAN).notNull();
  static final ColumnType NUMBER = ColumnType.of(Kind.BIGINT).notNull();

  private final boolean intersect;
  private final boolean all;
  private final Schema output;
  private final List<PlanNode> inputs;

  /**
   * @param inputs with the columns of the result
   */
  SetOperations(SetOp rel, List<PlanNode> inputs) {
    intersect = rel instanceof Intersect;
    all = rel.all;
    output = TypeMapping.schema(rel.getRowType());
    this.inputs = inputs;
  }

  PlanNode plan() {
    PlanNode result = inputs.get(0);
    for (PlanNode right : inputs.subList(1, inputs.size())) {
      result = of(result, right);
    }
    return result;
  }

  private PlanNode of(PlanNode left, PlanNode right) {
    int n = output.size();
    Schema flagged = with(new Column("left", FLAG), new Column("right", FLAG));
    PlanNode both =
        new PlanNode.UnionAll(
            List.of(flagged(left, true, flagged), flagged(right, false, flagged)), flagged);
    Column lefts = new Column("on the left", NUMBER);
    Column rights = new Column("on the right", NUMBER);
    PlanNode counted =
        new PlanNode.Aggregate(
            both,
            IntStream.range(0, n).boxed().toList(),
            List.of(
                new AggregateCall(AggregateCall.Function.COUNT, List.of(), false, n, lefts),
                new AggregateCall(AggregateCall.Function.COUNT, List.of(), false, n + 1, rights)),
            with(lefts, rights));
    Expr isLeft = new Expr.Column(n, NUMBER);
    Expr isRight = new Expr.Column(n + 1, NUMBER);
    Expr none = new Expr.Constant(0L, NUMBER);
    Expr there =
        intersect
            ? call(
                Operation.AND,
                FLAG,
                call(Operation.GREATER, FLAG, isLeft, none),
                call(Operation.GREATER, FLAG, isRight, none))
            : all
                ? call(Operation.GREATER, FLAG, isLeft, isRight)
                : call(
                    Operation.AND,
                    FLAG,
                    call(Operation.GREATER, FLAG, isLeft, none),
                    call(Operation.EQUAL, FLAG, isRight, none));
    List<Expr> columns = new ArrayList<>(Expr.columns(output));
    if (!all) {
      return new PlanNode.Transform(counted, new Program(counted.schema(), there, columns, output));
    }
    columns.add(
        intersect
            ? call(Operation.LEAST, NUMBER, isLeft, isRight)
            : call(Operation.MINUS, NUMBER, isLeft, isRight));
    return new PlanNode.Repeat(
        new PlanNode.Transform(
            counted,
            new Program(counted.schema(), there, columns, with(new Column("times", NUMBER)))),
        output);
  }

  private PlanNode flagged(PlanNode input, boolean left, Schema flagged) {
    List<Expr> columns = new ArrayList<>(Expr.columns(output));
    columns.add(new Expr.Constant(left, FLAG));
    columns.add(new Expr.Constant(!left, FLAG));
    return new PlanNode.Transform(input, new Program(input.schema(), null, columns, flagged));
  }

  private Schema with(Column... more) {
    List<Column> columns = new ArrayList<>(output.columns());
    columns.addAll(List.of(more));
    return new Schema(columns);
  }

  static Expr call(Operation operation, ColumnType type, Expr... operands) {
    return new Expr.Call(operation, List.of(operands), List.of(), type);
  }
}
