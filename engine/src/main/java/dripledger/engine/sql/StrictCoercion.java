package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.EnumSet;
import java.util.List;
import java.util.Set;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.sql.SqlCallBinding;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.fun.SqlCase;
import org.apache.calcite.sql.type.SqlTypeFamily;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.sql.type.SqlTypeUtil;
import org.apache.calcite.sql.validate.SqlValidator;
import org.apache.calcite.sql.validate.SqlValidatorScope;
import org.apache.calcite.sql.validate.implicit.TypeCoercionImpl;

/**
 * Casts that need not be written: those that PostgreSQL makes. A text that stands in the statement
 * becomes a number beside a number; a text column does not, since what that means is a guess.
 * Single use.
 */
final class StrictCoercion extends TypeCoercionImpl {
  private static final Set<SqlKind> OPERATORS =
      EnumSet.of(
          SqlKind.EQUALS,
          SqlKind.NOT_EQUALS,
          SqlKind.LESS_THAN,
          SqlKind.LESS_THAN_OR_EQUAL,
          SqlKind.GREATER_THAN,
          SqlKind.GREATER_THAN_OR_EQUAL,
          SqlKind.IS_DISTINCT_FROM,
          SqlKind.IS_NOT_DISTINCT_FROM,
          SqlKind.BETWEEN,
          SqlKind.PLUS,
          SqlKind.MINUS,
          SqlKind.TIMES,
          SqlKind.DIVIDE,
          SqlKind.MOD);

  private static final Set<SqlTypeFamily> NUMBERS =
      EnumSet.of(
          SqlTypeFamily.NUMERIC,
          SqlTypeFamily.EXACT_NUMERIC,
          SqlTypeFamily.APPROXIMATE_NUMERIC,
          SqlTypeFamily.INTEGER,
          SqlTypeFamily.DECIMAL);

  private boolean stored; // whether what is cast goes into a table

  StrictCoercion(RelDataTypeFactory types, SqlValidator validator) {
    super(types, validator);
  }

  @Override
  public boolean binaryComparisonCoercion(SqlCallBinding binding) {
    refuseNumbersWithText(binding);
    return super.binaryComparisonCoercion(binding);
  }

  @Override
  public boolean binaryArithmeticCoercion(SqlCallBinding binding) {
    refuseNumbersWithText(binding);
    return super.binaryArithmeticCoercion(binding);
  }

  @Override
  public boolean inOperationCoercion(SqlCallBinding binding) {
    SqlNode right = binding.operand(1);
    RelDataType left = binding.getOperandType(0);
    if (right instanceof SqlNodeList list) {
      for (SqlNode item : list) {
        RelDataType type = binding.getValidator().deriveType(binding.getScope(), item);
        if (mixed(left, binding.operand(0), type, item)) {
          throw binding.newValidationSignatureError();
        }
      }
    } else if (!left.isStruct() && binding.getOperandType(1).isStruct()) {
      RelDataType type = binding.getOperandType(1).getFieldList().get(0).getType();
      if (mixed(left, binding.operand(0), type, right)) {
        throw binding.newValidationSignatureError();
      }
    }
    return super.inOperationCoercion(binding);
  }

  @Override
  public boolean querySourceCoercion(
      SqlValidatorScope scope, RelDataType source, RelDataType target, SqlNode query) {
    for (int i = 0; i < Math.min(source.getFieldCount(), target.getFieldCount()); i++) {
      RelDataType from = source.getFieldList().get(i).getType();
      RelDataType to = target.getFieldList().get(i).getType();
      if (isTruth(from) && SqlTypeUtil.isNumeric(to)
          || isTruth(to) && SqlTypeUtil.isNumeric(from)) {
        throw SqlErrors.invalid(
            query,
            "column \""
                + target.getFieldList().get(i).getName()
                + "\" takes no "
                + (isTruth(from) ? "BOOLEAN" : "number"),
            "a comparison makes a BOOLEAN of a number, CASE a number of a BOOLEAN");
      }
    }
    stored = true; // an INSERT writes numbers as text
    try {
      return super.querySourceCoercion(scope, source, target, query);
    } finally {
      stored = false;
    }
  }

  /** UNION and its kin put a number and a text in one column only if a cast says which it is. */
  @Override
  public boolean rowTypeCoercion(
      SqlValidatorScope scope, SqlNode query, int column, RelDataType target) {
    RelDataType row = validator.getValidatedNodeTypeIfKnown(query);
    if (!stored && row != null && row.isStruct() && SqlTypeUtil.isCharacter(target)) {
      RelDataType own = row.getFieldList().get(column).getType();
      if (SqlTypeUtil.isNumeric(own)) {
        throw SqlErrors.invalid(
            query,
            "column " + (column + 1) + " is a number here and text in the other query",
            "cast one of them, for example CAST(x AS VARCHAR)");
      }
    }
    return super.rowTypeCoercion(scope, query, column, target);
  }

  @Override
  public boolean builtinFunctionCoercion(
      SqlCallBinding binding, List<RelDataType> types, List<SqlTypeFamily> wanted) {
    for (int i = 0; i < Math.min(types.size(), wanted.size()); i++) {
      boolean number = NUMBERS.contains(wanted.get(i));
      if (number && isColumnOfText(types.get(i), binding.operand(i))) {
        return false;
      }
    }
    return super.builtinFunctionCoercion(binding, types, wanted);
  }

  private static void refuseNumbersWithText(SqlCallBinding binding) {
    if (!OPERATORS.contains(binding.getOperator().getKind())) {
      return; // functions take text and numbers
    }
    for (int i = 0; i < binding.getOperandCount(); i++) {
      for (int j = 0; j < i; j++) {
        if (mixed(
            binding.getOperandType(i),
            binding.operand(i),
            binding.getOperandType(j),
            binding.operand(j))) {
          throw binding.newValidationSignatureError();
        }
      }
    }
  }

  /** What CASE and COALESCE may answer is of one kind; only a time may be written as text. */
  @Override
  public boolean caseOrEquivalentCoercion(SqlCallBinding binding) {
    List<SqlNode> values = new ArrayList<>();
    if (binding.getCall() instanceof SqlCase either) {
      values.addAll(either.getThenOperands());
      values.add(either.getElseOperand());
    } else {
      values.addAll(binding.operands());
    }
    List<RelDataType> types = new ArrayList<>();
    for (SqlNode value : values) {
      types.add(validator.deriveType(binding.getScope(), value));
    }
    for (int i = 0; i < values.size(); i++) {
      for (int j = 0; j < values.size(); j++) {
        boolean text = SqlTypeUtil.isCharacter(types.get(i));
        boolean other = SqlTypeUtil.isNumeric(types.get(j)) || SqlTypeUtil.isDatetime(types.get(j));
        if (text && other && !isTime(values.get(i), types.get(j))) {
          throw SqlErrors.invalid(
              values.get(i),
              "this is text, and something else in another case",
              "cast one of them, for example CAST(x AS VARCHAR)");
        }
      }
    }
    return super.caseOrEquivalentCoercion(binding);
  }

  private static boolean isTime(SqlNode value, RelDataType other) {
    return value instanceof SqlLiteral && SqlTypeUtil.isDatetime(other);
  }

  private static boolean mixed(RelDataType a, SqlNode one, RelDataType b, SqlNode other) {
    return isColumnOfText(a, one) && SqlTypeUtil.isNumeric(b)
        || isColumnOfText(b, other) && SqlTypeUtil.isNumeric(a);
  }

  private static boolean isTruth(RelDataType type) {
    return type.getSqlTypeName() == SqlTypeName.BOOLEAN;
  }

  private static boolean isColumnOfText(RelDataType type, SqlNode node) {
    return SqlTypeUtil.isCharacter(type) && !(node instanceof SqlLiteral);
  }
}
