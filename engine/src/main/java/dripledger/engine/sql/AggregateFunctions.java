package dripledger.engine.sql;

import dripledger.engine.expr.AggregateCall.Function;
import java.util.List;
import java.util.Locale;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.sql.SqlAggFunction;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.SqlOperatorBinding;
import org.apache.calcite.sql.fun.SqlBasicAggFunction;
import org.apache.calcite.sql.fun.SqlLeadLagAggFunction;
import org.apache.calcite.sql.type.OperandTypes;
import org.apache.calcite.sql.type.ReturnTypes;
import org.apache.calcite.sql.type.SqlOperandTypeChecker;
import org.apache.calcite.sql.type.SqlReturnTypeInference;
import org.apache.calcite.sql.type.SqlTypeFamily;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.sql.type.SqlTypeTransforms;
import org.apache.calcite.util.Optionality;

/**
 * The aggregate functions of the language: those the SQL library lacks, or says never answer NULL
 * though they do, and which of ours each is. Stateless.
 */
final class AggregateFunctions {
  private static final SqlReturnTypeInference DEVIATION =
      binding -> {
        RelDataType average =
            binding
                .getTypeFactory()
                .getTypeSystem()
                .deriveAvgAggType(binding.getTypeFactory(), binding.getOperandType(0));
        return binding.getTypeFactory().createTypeWithNullability(average, true);
      };
  private static final SqlReturnTypeInference DOUBLE =
      ReturnTypes.explicit(SqlTypeName.DOUBLE).andThen(SqlTypeTransforms.FORCE_NULLABLE);
  private static final SqlReturnTypeInference TEXT =
      ReturnTypes.explicit(SqlTypeName.VARCHAR).andThen(SqlTypeTransforms.FORCE_NULLABLE);

  private static final SqlAggFunction STRING_AGG =
      ordered(
          "STRING_AGG",
          TEXT,
          OperandTypes.or(
              OperandTypes.family(SqlTypeFamily.CHARACTER),
              OperandTypes.family(SqlTypeFamily.CHARACTER, SqlTypeFamily.CHARACTER)));
  private static final SqlAggFunction ARRAY_AGG =
      ordered(
          "ARRAY_AGG",
          ReturnTypes.TO_ARRAY.andThen(SqlTypeTransforms.FORCE_NULLABLE),
          OperandTypes.ANY);

  /** Those that are ours. */
  static final List<SqlOperator> OWN =
      List.of(
          STRING_AGG,
          ARRAY_AGG,
          own("VAR_SAMP", DEVIATION, OperandTypes.NUMERIC),
          own("VARIANCE", DEVIATION, OperandTypes.NUMERIC),
          own("STDDEV_SAMP", DEVIATION, OperandTypes.NUMERIC),
          own("STDDEV", DEVIATION, OperandTypes.NUMERIC),
          own("COVAR_POP", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          own("COVAR_SAMP", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          own("CORR", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          own("REGR_COUNT", ReturnTypes.BIGINT, OperandTypes.NUMERIC_NUMERIC),
          own("REGR_AVGX", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          own("REGR_AVGY", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          own("REGR_SXX", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          own("REGR_SYY", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          own("REGR_SXY", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          own("REGR_SLOPE", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          own("REGR_INTERCEPT", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          own("REGR_R2", DOUBLE, OperandTypes.NUMERIC_NUMERIC),
          argument(SqlKind.ARG_MAX),
          argument(SqlKind.ARG_MIN),
          new Neighbour(SqlKind.LAG),
          new Neighbour(SqlKind.LEAD),
          own("JSON_AGG", TEXT, OperandTypes.ANY),
          own("JSONB_AGG", TEXT, OperandTypes.ANY),
          own("JSON_OBJECT_AGG", TEXT, OperandTypes.ANY_ANY),
          own("JSONB_OBJECT_AGG", TEXT, OperandTypes.ANY_ANY));

  private AggregateFunctions() {}

  /** A function that may be told in which order it takes its values. */
  private static SqlAggFunction ordered(
      String name, SqlReturnTypeInference type, SqlOperandTypeChecker operands) {
    return SqlBasicAggFunction.create(name, SqlKind.OTHER_FUNCTION, type, operands)
        .withGroupOrder(Optionality.OPTIONAL);
  }

  /** The function that takes an order, of one that was written with one. */
  static SqlOperator ordered(SqlOperator function) {
    return switch (function.getName().toUpperCase(Locale.ROOT)) {
      case "STRING_AGG" -> STRING_AGG;
      case "ARRAY_AGG" -> ARRAY_AGG;
      default -> function;
    };
  }

  private static SqlAggFunction own(
      String name, SqlReturnTypeInference type, SqlOperandTypeChecker operands) {
    return SqlBasicAggFunction.create(name, SqlKind.OTHER_FUNCTION, type, operands);
  }

  /** The library takes it for NOT NULL where nothing has a highest value. */
  private static SqlAggFunction argument(SqlKind kind) {
    return SqlBasicAggFunction.create(
        kind.name(),
        kind,
        ReturnTypes.ARG0.andThen(SqlTypeTransforms.FORCE_NULLABLE),
        OperandTypes.ANY_COMPARABLE);
  }

  /** LAG or LEAD, which the library takes for NOT NULL if only the default is. */
  private static final class Neighbour extends SqlLeadLagAggFunction {
    Neighbour(SqlKind kind) {
      super(kind);
    }

    @Override
    public RelDataType inferReturnType(SqlOperatorBinding binding) {
      RelDataType type = super.inferReturnType(binding);
      return binding.getOperandType(0).isNullable()
          ? binding.getTypeFactory().createTypeWithNullability(type, true)
          : type;
    }
  }

  /**
   * Which function it is.
   *
   * @throws dripledger.engine.error.EngineException (NOT_SUPPORTED) if it is none of ours
   */
  static Function of(SqlAggFunction function) {
    String name = function.getName().toUpperCase(Locale.ROOT);
    return switch (name) {
      case "STDDEV" -> Function.STDDEV_SAMP;
      case "VARIANCE" -> Function.VAR_SAMP;
      case "BOOL_AND", "EVERY" -> Function.BOOL_AND;
      case "BOOL_OR", "SOME" -> Function.BOOL_OR;
      case "ANY_VALUE" -> Function.MIN; // one that does not depend on arrival
      case "LISTAGG" -> Function.STRING_AGG;
      case "JSONB_AGG" -> Function.JSON_AGG;
      case "JSONB_OBJECT_AGG" -> Function.JSON_OBJECT_AGG;
      case "APPROX_COUNT_DISTINCT" -> Function.COUNT;
      default -> {
        for (Function each : Function.values()) {
          if (each.name().equals(name)) {
            yield each;
          }
        }
        throw PlanBuilder.unsupported("aggregate function " + function.getName());
      }
    };
  }
}
