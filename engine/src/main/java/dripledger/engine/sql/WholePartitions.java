package dripledger.engine.sql;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.plan.JoinKind;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.Collections;
import java.util.List;

/** Aggregates over whole partitions as a plan: a grouping that the rows are joined with. */
final class WholePartitions {
  private WholePartitions() {}

  /** The rows with their columns, what they are partitioned by and what is computed. */
  static PlanNode of(PlanNode rows, List<Integer> partition, List<AggregateCall> calls) {
    PlanNode groups = partition.isEmpty() ? one(rows, calls) : groups(rows, partition, calls);
    List<Column> both = new ArrayList<>(rows.schema().columns());
    both.addAll(groups.schema().columns());
    List<Integer> keys = new ArrayList<>();
    for (int i = 0; i < partition.size(); i++) {
      keys.add(i);
    }
    return new PlanNode.Join(
        rows,
        groups,
        JoinKind.INNER,
        partition,
        keys,
        Collections.nCopies(partition.size(), true),
        null,
        new Schema(both));
  }

  private static PlanNode groups(PlanNode rows, List<Integer> by, List<AggregateCall> calls) {
    List<Column> output = new ArrayList<>();
    by.forEach(c -> output.add(rows.schema().column(c)));
    calls.forEach(call -> output.add(call.output()));
    Schema schema = AggregatePlans.named(new Schema(output), calls, rows.schema());
    return new PlanNode.Aggregate(rows, by, calls, schema);
  }

  /**
   * All rows as one group, which is there only if they are: of none a grouping by nothing has a row
   * too, with NULLs that no row of a window has.
   */
  private static PlanNode one(PlanNode rows, List<AggregateCall> calls) {
    List<AggregateCall> counted = new ArrayList<>();
    for (AggregateCall call : calls) {
      Column output = call.output();
      counted.add(call.as(new Column(output.name(), output.type().withNullable(true))));
    }
    Column count = new Column("$COUNT", SetOperations.NUMBER);
    counted.add(new AggregateCall(AggregateCall.Function.COUNT, List.of(), false, -1, count));
    PlanNode group = groups(rows, List.of(), counted);
    List<Expr> outputs = new ArrayList<>();
    List<Column> columns = new ArrayList<>();
    for (int i = 0; i < calls.size(); i++) {
      ColumnType type = calls.get(i).output().type();
      outputs.add(new Expr.Column(i, group.schema().type(i)));
      columns.add(new Column(group.schema().column(i).name(), type));
    }
    Expr any =
        SetOperations.call(
            Operation.GREATER,
            SetOperations.FLAG,
            new Expr.Column(calls.size(), SetOperations.NUMBER),
            new Expr.Constant(0L, SetOperations.NUMBER));
    return PlanBuilder.transform(group, any, outputs, new Schema(columns));
  }
}
