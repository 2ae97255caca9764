package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.expr.AggregateCall;
import org.apache.calcite.sql.SqlAggFunction;

/** Which of our aggregate functions one of the SQL library's is. Stateless. */
final class Aggregates {
  private Aggregates() {}

  static AggregateCall.Function function(SqlAggFunction function) {
    return switch (function.getKind()) {
      case COUNT -> AggregateCall.Function.COUNT;
      case SUM -> AggregateCall.Function.SUM;
      case AVG -> AggregateCall.Function.AVG;
      case MIN -> AggregateCall.Function.MIN;
      case MAX -> AggregateCall.Function.MAX;
      case ARG_MAX -> AggregateCall.Function.ARG_MAX;
      case ARG_MIN -> AggregateCall.Function.ARG_MIN;
      case SINGLE_VALUE ->
          throw new EngineException(
              EngineException.Code.NOT_SUPPORTED,
              "not supported yet: a query in an expression that may answer more than one row",
              "make it one row: ask by the whole key, or for MAX or MIN of the column");
      default -> throw PlanBuilder.unsupported("aggregate function " + function.getName());
    };
  }
}
