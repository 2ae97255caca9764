package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import org.apache.calcite.rel.RelCollation;
import org.apache.calcite.rel.RelCollations;
import org.apache.calcite.rel.RelFieldCollation;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Aggregate;
import org.apache.calcite.rel.core.AggregateCall;
import org.apache.calcite.sql.SqlAggFunction;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.type.OperandTypes;
import org.apache.calcite.sql.type.ReturnTypes;
import org.apache.calcite.util.Optionality;

/**
 * Hides the order in which an aggregate takes its values among its arguments, while the library
 * takes correlation away: it moves arguments to their new places, and forgets the order. Stateless.
 */
final class OrderedCalls {
  private OrderedCalls() {}

  /** Whose last arguments are what it is ordered by. */
  private static final class Ordered extends SqlAggFunction {
    private final SqlAggFunction function;
    private final RelCollation order;

    Ordered(AggregateCall call) {
      super(
          "$ordered_" + call.getAggregation().getName(),
          null,
          SqlKind.OTHER_FUNCTION,
          ReturnTypes.explicit(call.getType()),
          null,
          OperandTypes.VARIADIC,
          call.getAggregation().getFunctionType(),
          false,
          false,
          Optionality.FORBIDDEN);
      function = call.getAggregation();
      order = call.getCollation();
    }
  }

  static RelNode hidden(RelNode rel) {
    return rel.accept(
        new Calls() {
          @Override
          AggregateCall call(AggregateCall call) {
            List<Integer> order = call.getCollation().getKeys();
            if (order.isEmpty()) {
              return call;
            }
            List<Integer> arguments = new ArrayList<>(call.getArgList());
            arguments.addAll(order);
            return made(call, new Ordered(call), arguments, RelCollations.EMPTY);
          }
        });
  }

  static RelNode shown(RelNode rel) {
    return rel.accept(
        new Calls() {
          @Override
          AggregateCall call(AggregateCall call) {
            if (!(call.getAggregation() instanceof Ordered ordered)) {
              return call;
            }
            List<RelFieldCollation> keys = ordered.order.getFieldCollations();
            int own = call.getArgList().size() - keys.size();
            List<RelFieldCollation> order = new ArrayList<>();
            for (int i = 0; i < keys.size(); i++) {
              order.add(keys.get(i).withFieldIndex(call.getArgList().get(own + i)));
            }
            return made(
                call, ordered.function, call.getArgList().subList(0, own), RelCollations.of(order));
          }
        });
  }

  private static AggregateCall made(
      AggregateCall call, SqlAggFunction function, List<Integer> arguments, RelCollation order) {
    return AggregateCall.create(
        function,
        call.isDistinct(),
        call.isApproximate(),
        call.ignoreNulls(),
        call.rexList,
        arguments,
        call.filterArg,
        call.distinctKeys,
        order,
        call.getType(),
        call.getName());
  }

  /** Puts others in the place of an aggregate's calls. */
  private abstract static class Calls extends RelHomogeneousShuttle {
    abstract AggregateCall call(AggregateCall call);

    @Override
    public RelNode visit(RelNode other) {
      RelNode rel = super.visit(other);
      if (!(rel instanceof Aggregate aggregate)) {
        return rel;
      }
      List<AggregateCall> calls = aggregate.getAggCallList().stream().map(this::call).toList();
      return calls.equals(aggregate.getAggCallList())
          ? rel
          : aggregate.copy(
              aggregate.getTraitSet(),
              aggregate.getInput(),
              aggregate.getGroupSet(),
              aggregate.getGroupSets(),
              calls);
    }
  }
}
