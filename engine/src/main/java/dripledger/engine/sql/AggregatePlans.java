package dripledger.engine.sql;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.SessionGroups;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.List;
import org.apache.calcite.rel.core.Aggregate;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.util.ImmutableBitSet;

/**
 * GROUP BY as a plan. GROUPING SETS, ROLLUP and CUBE are a grouping for each set, all of whose rows
 * are put together. Single use.
 */
final class AggregatePlans {
  private final Expressions expressions;
  private final Aggregate rel;
  private final PlanNode input;
  private final Schema output;
  private final List<Integer> groups;

  AggregatePlans(Expressions expressions, Aggregate rel, PlanNode input) {
    this.expressions = expressions;
    this.rel = rel;
    this.input = input;
    output = TypeMapping.schema(rel.getRowType());
    groups = rel.getGroupSet().asList();
  }

  PlanNode plan() {
    if (rel.getGroupType() == Aggregate.Group.SIMPLE) {
      return of(rel.getGroupSet());
    }
    return new PlanNode.UnionAll(rel.getGroupSets().stream().map(this::of).toList(), output);
  }

  /** The rows of one set of group columns; those of other sets are NULL. */
  private PlanNode of(ImmutableBitSet set) {
    List<AggregateCall> calls = new ArrayList<>();
    List<Column> kept = new ArrayList<>();
    List<Expr> outputs = new ArrayList<>();
    boolean plain = true;
    for (int i = 0; i < groups.size(); i++) {
      Column column = output.column(i);
      if (set.get(groups.get(i))) {
        ColumnType type = input.schema().type(groups.get(i));
        outputs.add(new Expr.Column(kept.size(), type));
        kept.add(new Column(column.name(), type));
        plain &= type.equals(column.type());
      } else {
        outputs.add(new Expr.Constant(null, column.type()));
      }
    }
    for (int i = 0; i < rel.getAggCallList().size(); i++) {
      org.apache.calcite.rel.core.AggregateCall call = rel.getAggCallList().get(i);
      Column result = output.column(groups.size() + i);
      SqlKind kind = call.getAggregation().getKind();
      if (kind == SqlKind.LITERAL_AGG) {
        outputs.add(expressions.translate(call.rexList.get(0))); // a constant, of any rows
      } else if (kind == SqlKind.GROUPING) {
        outputs.add(new Expr.Constant(missing(call.getArgList(), set), result.type()));
      } else {
        outputs.add(new Expr.Column(kept.size(), result.type()));
        kept.add(result);
        calls.add(
            new AggregateCall(
                AggregateFunctions.of(call.getAggregation()),
                call.getArgList(),
                call.isDistinct(),
                call.filterArg,
                PlanBuilder.order(call.getCollation()),
                result));
      }
    }
    PlanNode aggregate =
        WindowEnds.outOfKey(
            SessionGroups.merging(
                new PlanNode.Aggregate(
                    input,
                    groups.stream().filter(set::get).toList(),
                    calls,
                    named(new Schema(kept), calls, input.schema()))));
    return plain && kept.size() == output.size()
        ? aggregate
        : PlanBuilder.transform(aggregate, null, outputs, output);
  }

  /** GROUPING(…): a bit for each column, 1 if the set is without it. */
  private static long missing(List<Integer> columns, ImmutableBitSet set) {
    long bits = 0;
    for (int column : columns) {
      bits = bits << 1 | (set.get(column) ? 0 : 1);
    }
    return bits;
  }

  /** Gives results that have no name of their own one that EXPLAIN can show: the call itself. */
  static Schema named(Schema output, List<AggregateCall> calls, Schema input) {
    List<Column> columns = new ArrayList<>(output.columns());
    int first = columns.size() - calls.size();
    for (int i = 0; i < calls.size(); i++) {
      Column column = columns.get(first + i);
      if (column.name().startsWith("$")) {
        columns.set(first + i, new Column(calls.get(i).text(input), column.type()));
      }
    }
    return new Schema(columns);
  }
}
