package dripledger.engine.sql;

import dripledger.grammar.OwnOperators;
import java.util.List;
import java.util.Locale;
import org.apache.calcite.avatica.util.TimeUnit;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.sql.SqlBasicCall;
import org.apache.calcite.sql.SqlBinaryOperator;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlCallBinding;
import org.apache.calcite.sql.SqlIntervalQualifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlOperandCountRange;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.SqlOperatorBinding;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.parser.SqlParserPos;
import org.apache.calcite.sql.type.InferTypes;
import org.apache.calcite.sql.type.OperandTypes;
import org.apache.calcite.sql.type.ReturnTypes;
import org.apache.calcite.sql.type.SqlOperandTypeChecker;
import org.apache.calcite.sql.type.SqlReturnTypeInference;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.sql.type.SqlTypeUtil;
import org.apache.calcite.sql2rel.SqlRexContext;
import org.apache.calcite.sql2rel.StandardConvertletTable;

/**
 * Plus and minus as PostgreSQL has them where the standard has other rules: a time less a time is
 * an interval, a date less a date a number of days, a date and a number a date, a date and an
 * interval a timestamp. Everything else is the library's. Stateless.
 */
final class TimeArithmetic {
  private enum Form {
    /** A time less a time. */
    DISTANCE,
    /** A date less a date. */
    DAYS_BETWEEN,
    /** A date and a number of days. */
    DAYS_ON,
    /** A date and an interval. */
    OF_DATE,
    /** What the library does. */
    USUAL
  }

  private static final SqlOperator PLUS =
      operator(SqlStdOperatorTable.PLUS, OperandTypes.PLUS_OPERATOR);
  private static final SqlOperator MINUS =
      operator(SqlStdOperatorTable.MINUS, OperandTypes.MINUS_OPERATOR);

  /** For the table of operators, before those of the library. */
  static final List<SqlOperator> OPERATORS = List.of(PLUS, MINUS);

  private TimeArithmetic() {}

  /** What stands in the place of an operator of the library or the parser, or null. */
  static SqlOperator own(SqlOperator operator) {
    if (operator == OwnOperators.CONCATENATE) {
      return SqlStdOperatorTable.CONCAT;
    }
    return operator == SqlStdOperatorTable.PLUS
        ? PLUS
        : operator == SqlStdOperatorTable.MINUS ? MINUS : null;
  }

  static boolean isOwn(SqlCall call) {
    return call.getOperator() == PLUS || call.getOperator() == MINUS;
  }

  /** The algebra of a call of ours. */
  static RexNode convert(SqlRexContext context, SqlCall call) {
    RexNode a = context.convertExpression(call.operand(0));
    RexNode b = context.convertExpression(call.operand(1));
    boolean minus = call.getOperator() == MINUS;
    RexBuilder rex = context.getRexBuilder();
    RelDataTypeFactory types = rex.getTypeFactory();
    RelDataType result = type(minus, a.getType(), b.getType(), types);
    if (result == null) {
      ((SqlBasicCall) call)
          .setOperator(minus ? SqlStdOperatorTable.MINUS : SqlStdOperatorTable.PLUS);
      return StandardConvertletTable.INSTANCE.get(call).convertCall(context, call);
    }
    switch (form(minus, a.getType(), b.getType())) {
      case DISTANCE:
        return rex.makeCall(
            result, SqlStdOperatorTable.MINUS_DATE, List.of(withTime(rex, a), withTime(rex, b)));
      case DAYS_BETWEEN:
        return rex.makeCall(result, OwnFunctions.DAYS_BETWEEN, List.of(a, b));
      case DAYS_ON:
        RexNode days = isDate(a.getType()) ? b : a;
        RexNode signed = minus ? rex.makeCall(SqlStdOperatorTable.UNARY_MINUS, days) : days;
        return rex.makeCall(
            result, OwnFunctions.DAYS_ON, List.of(isDate(a.getType()) ? a : b, signed));
      default:
        RexNode date = isDate(a.getType()) ? a : b;
        return rex.makeCall(
            result,
            minus ? SqlStdOperatorTable.MINUS_DATE : SqlStdOperatorTable.DATETIME_PLUS,
            List.of(withTime(rex, date), isDate(a.getType()) ? b : a));
    }
  }

  private static RexNode withTime(RexBuilder rex, RexNode value) {
    return isDate(value.getType())
        ? rex.makeCast(timestamp(rex.getTypeFactory(), value.getType().isNullable()), value)
        : value;
  }

  private static boolean isDate(RelDataType type) {
    return type.getSqlTypeName() == SqlTypeName.DATE;
  }

  private static boolean isMoment(RelDataType type) {
    return type.getSqlTypeName() == SqlTypeName.TIMESTAMP || isDate(type);
  }

  private static Form form(boolean minus, RelDataType a, RelDataType b) {
    boolean clocks =
        a.getSqlTypeName() == SqlTypeName.TIME && b.getSqlTypeName() == SqlTypeName.TIME;
    if (minus && isDate(a) && isDate(b)) {
      return Form.DAYS_BETWEEN;
    }
    if (minus && (isMoment(a) && isMoment(b) || clocks)) {
      return Form.DISTANCE;
    }
    if (isDate(a) && SqlTypeUtil.isIntType(b) || !minus && SqlTypeUtil.isIntType(a) && isDate(b)) {
      return Form.DAYS_ON;
    }
    return isDate(a) && SqlTypeUtil.isInterval(b)
            || !minus && SqlTypeUtil.isInterval(a) && isDate(b)
        ? Form.OF_DATE
        : Form.USUAL;
  }

  private static RelDataType timestamp(RelDataTypeFactory types, boolean nullable) {
    return types.createTypeWithNullability(types.createSqlType(SqlTypeName.TIMESTAMP, 6), nullable);
  }

  /** What comes of it, or null if it is what the library says. */
  private static RelDataType type(
      boolean minus, RelDataType a, RelDataType b, RelDataTypeFactory types) {
    RelDataType type =
        switch (form(minus, a, b)) {
          case DISTANCE ->
              types.createSqlIntervalType(
                  new SqlIntervalQualifier(
                      TimeUnit.DAY, 10, TimeUnit.SECOND, 6, SqlParserPos.ZERO));
          case DAYS_BETWEEN -> types.createSqlType(SqlTypeName.INTEGER);
          case DAYS_ON -> types.createSqlType(SqlTypeName.DATE);
          case OF_DATE -> types.createSqlType(SqlTypeName.TIMESTAMP, 6);
          case USUAL -> null;
        };
    return type == null
        ? null
        : types.createTypeWithNullability(type, a.isNullable() || b.isNullable());
  }

  private static SqlBinaryOperator operator(
      SqlBinaryOperator library, SqlOperandTypeChecker libraryOperands) {
    boolean minus = library.getKind() == SqlKind.MINUS;
    SqlReturnTypeInference result =
        binding -> {
          RelDataType own = own(minus, binding);
          return own != null ? own : ReturnTypes.NULLABLE_SUM.inferReturnType(binding);
        };
    SqlOperandTypeChecker operands =
        new SqlOperandTypeChecker() {
          @Override
          public boolean checkOperandTypes(SqlCallBinding binding, boolean throwOnFailure) {
            return own(minus, binding) != null
                || libraryOperands.checkOperandTypes(binding, throwOnFailure);
          }

          @Override
          public SqlOperandCountRange getOperandCountRange() {
            return libraryOperands.getOperandCountRange();
          }

          @Override
          public String getAllowedSignatures(SqlOperator operator, String name) {
            return libraryOperands.getAllowedSignatures(operator, name);
          }

          @Override
          public Consistency getConsistency() {
            return libraryOperands.getConsistency();
          }
        };
    return new SqlBinaryOperator(
        library.getName().toUpperCase(Locale.ROOT),
        library.getKind(),
        library.getLeftPrec(),
        true,
        result,
        InferTypes.FIRST_KNOWN,
        operands);
  }

  private static RelDataType own(boolean minus, SqlOperatorBinding binding) {
    return type(
        minus, binding.getOperandType(0), binding.getOperandType(1), binding.getTypeFactory());
  }
}
