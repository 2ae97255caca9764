package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.sql.SqlFunction;
import org.apache.calcite.sql.SqlFunctionCategory;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.parser.SqlParserPos;
import org.apache.calcite.sql.type.OperandTypes;
import org.apache.calcite.sql.type.ReturnTypes;
import org.apache.calcite.sql.type.SqlOperandTypeChecker;
import org.apache.calcite.sql.type.SqlReturnTypeInference;
import org.apache.calcite.sql.type.SqlTypeFamily;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.sql.type.SqlTypeTransforms;

/**
 * Functions that PostgreSQL has and the SQL library lacks, or has with another answer. What they do
 * is in {@code expr}, under the same names. Stateless.
 */
final class OwnFunctions {
  private static final SqlTypeFamily TEXT = SqlTypeFamily.CHARACTER;
  private static final SqlTypeFamily NUMBER = SqlTypeFamily.NUMERIC;
  private static final SqlTypeFamily WHOLE = SqlTypeFamily.INTEGER;
  private static final SqlTypeFamily TIME = SqlTypeFamily.DATETIME;
  private static final SqlTypeFamily BYTES = SqlTypeFamily.BINARY;
  private static final SqlTypeFamily ARRAY = SqlTypeFamily.ARRAY;
  private static final SqlTypeFamily ANY = SqlTypeFamily.ANY;

  private static final List<SqlOperator> ALL = new ArrayList<>();

  /** The only element of an array; not for users. */
  static final SqlOperator ONLY =
      new SqlFunction(
          "ONLY_VALUE",
          SqlKind.OTHER_FUNCTION,
          binding -> binding.getOperandType(0).getComponentType(),
          null,
          OperandTypes.family(ARRAY),
          SqlFunctionCategory.SYSTEM);

  static final SqlOperator DAYS_BETWEEN =
      add("DAYS_BETWEEN", of(SqlTypeName.INTEGER), families(TIME, TIME));
  static final SqlOperator DATE_BIN =
      add(
          "DATE_BIN",
          of(SqlTypeName.TIMESTAMP),
          families(SqlTypeFamily.DATETIME_INTERVAL, TIME, TIME));
  static final SqlOperator DAYS_ON = add("DAYS_ON", of(SqlTypeName.DATE), families(TIME, WHOLE));

  private OwnFunctions() {}

  /** All of them. */
  static List<SqlOperator> all() {
    return ALL;
  }

  static {
    SqlReturnTypeInference text = of(SqlTypeName.VARCHAR);
    SqlReturnTypeInference found =
        ReturnTypes.explicit(SqlTypeName.VARCHAR).andThen(SqlTypeTransforms.FORCE_NULLABLE);
    SqlReturnTypeInference number = of(SqlTypeName.DOUBLE);
    SqlReturnTypeInference whole = of(SqlTypeName.BIGINT);
    SqlReturnTypeInference truth = of(SqlTypeName.BOOLEAN);
    SqlReturnTypeInference bytes = of(SqlTypeName.VARBINARY);
    SqlReturnTypeInference timestamp =
        ReturnTypes.explicit(SqlTypeName.TIMESTAMP, 6).andThen(SqlTypeTransforms.TO_NULLABLE);
    SqlReturnTypeInference date = of(SqlTypeName.DATE);

    add("REGEXP_LIKE", truth, either(families(TEXT, TEXT), families(TEXT, TEXT, TEXT)));
    add("REGEXP_COUNT", whole, families(TEXT, TEXT));
    add("REGEXP_SUBSTR", found, families(TEXT, TEXT));
    add(
        "REGEXP_REPLACE",
        text,
        either(families(TEXT, TEXT, TEXT), families(TEXT, TEXT, TEXT, TEXT)));
    add(
        "CONCAT_WS",
        ReturnTypes.explicit(SqlTypeName.VARCHAR).andThen(SqlTypeTransforms.ARG0_NULLABLE),
        OperandTypes.ONE_OR_MORE);
    add(
        "REGEXP_MATCH",
        arrayOf(SqlTypeName.VARCHAR).andThen(SqlTypeTransforms.FORCE_NULLABLE),
        either(families(TEXT, TEXT), families(TEXT, TEXT, TEXT)));
    add("SIMILAR_TO", truth, either(families(TEXT, TEXT), families(TEXT, TEXT, TEXT)));
    add("TRIM_LEADING", text, families(TEXT, TEXT)); // not for users, as the next
    add("TRIM_TRAILING", text, families(TEXT, TEXT));
    add("BTRIM", text, either(families(TEXT), families(TEXT, TEXT)));
    add("BIT_LENGTH", whole, families(TEXT));
    add("TO_HEX", text, families(WHOLE));
    add("SHA256", bytes, either(families(BYTES), families(TEXT)));
    add("SHA512", bytes, either(families(BYTES), families(TEXT)));
    add("ENCODE", text, families(BYTES, TEXT));
    add("DECODE", bytes, families(TEXT, TEXT));

    add("LOG", number, either(families(NUMBER), families(NUMBER, NUMBER)));
    add("DIV", of(SqlTypeName.DECIMAL), families(NUMBER, NUMBER));
    add("SCALE", of(SqlTypeName.INTEGER), families(NUMBER));
    add("GCD", whole, families(WHOLE, WHOLE));
    add("LCM", whole, families(WHOLE, WHOLE));
    add("WIDTH_BUCKET", whole, families(NUMBER, NUMBER, NUMBER, WHOLE));

    add("MAKE_DATE", date, families(WHOLE, WHOLE, WHOLE));
    add("MAKE_TIMESTAMP", timestamp, families(WHOLE, WHOLE, WHOLE, WHOLE, WHOLE, NUMBER));
    add("TO_TIMESTAMP", timestamp, either(families(NUMBER), families(TEXT, TEXT)));
    add("TO_DATE", date, families(TEXT, TEXT));
    add("TO_CHAR", text, either(families(TIME, TEXT), families(NUMBER, TEXT)));
    add("DATE_PART", number, families(TEXT, TIME));

    add("JSON_EXTRACT_PATH_TEXT", found, path());
    add("JSON_EXTRACT_PATH", found, path());
    add("TO_JSON", text, OperandTypes.ANY);
    add("JSON_NAME", ReturnTypes.VARCHAR, OperandTypes.ANY); // not for users, as the next
    add("JSON_MADE", text, families(TEXT));
    add("JSON_ARRAY_LENGTH", whole, families(TEXT));
    add("JSON_TYPEOF", text, families(TEXT));
    add("JSON_MEMBER", found, either(families(TEXT, TEXT), families(TEXT, WHOLE)));
    add("JSON_MEMBER_TEXT", found, either(families(TEXT, TEXT), families(TEXT, WHOLE)));

    SqlReturnTypeInference texts = arrayOf(SqlTypeName.VARCHAR);
    add("STRING_TO_ARRAY", texts, families(TEXT, TEXT));
    add("REGEXP_SPLIT_TO_ARRAY", texts, families(TEXT, TEXT));
    add("ARRAY_TO_STRING", text, either(families(ARRAY, TEXT), families(ARRAY, TEXT, TEXT)));
    add("ARRAY_POSITION", nullable(SqlTypeName.INTEGER), OperandTypes.family(ARRAY, ANY));
    add("ELEMENTS_OF_JSON", texts, families(TEXT));
    add("TEXTS_OF_JSON", texts, families(TEXT));
    add("KEYS_OF_JSON", texts, families(TEXT));
    add("SERIES", arrayOf(null), series());

    add("AGE", text, families(TIME, TIME));
  }

  private static SqlReturnTypeInference of(SqlTypeName type) {
    return ReturnTypes.explicit(type).andThen(SqlTypeTransforms.TO_NULLABLE);
  }

  private static SqlOperandTypeChecker families(SqlTypeFamily... families) {
    return OperandTypes.family(families);
  }

  private static SqlOperandTypeChecker either(
      SqlOperandTypeChecker one, SqlOperandTypeChecker other) {
    return OperandTypes.or(
        (org.apache.calcite.sql.type.SqlSingleOperandTypeChecker) one,
        (org.apache.calcite.sql.type.SqlSingleOperandTypeChecker) other);
  }

  private static SqlReturnTypeInference nullable(SqlTypeName type) {
    return ReturnTypes.explicit(type).andThen(SqlTypeTransforms.FORCE_NULLABLE);
  }

  /** An array of a type, or if it is null of what the first two arguments have in common. */
  private static SqlReturnTypeInference arrayOf(SqlTypeName element) {
    SqlReturnTypeInference inference =
        binding -> {
          RelDataTypeFactory types = binding.getTypeFactory();
          RelDataType type =
              element != null
                  ? types.createSqlType(element)
                  : types.leastRestrictive(
                      List.of(binding.getOperandType(0), binding.getOperandType(1)));
          if (type.getSqlTypeName() == SqlTypeName.DATE) {
            type = types.createSqlType(SqlTypeName.TIMESTAMP, 6);
          }
          return types.createArrayType(types.createTypeWithNullability(type, true), -1);
        };
    return inference.andThen(SqlTypeTransforms.TO_NULLABLE);
  }

  private static SqlOperandTypeChecker series() {
    SqlTypeFamily step = SqlTypeFamily.DATETIME_INTERVAL;
    return OperandTypes.or(
        OperandTypes.family(WHOLE, WHOLE),
        OperandTypes.family(WHOLE, WHOLE, WHOLE),
        OperandTypes.family(TIME, TIME, step));
  }

  private static SqlOperandTypeChecker path() {
    return either(
        OperandTypes.or(OperandTypes.family(TEXT, TEXT), OperandTypes.family(TEXT, TEXT, TEXT)),
        families(TEXT, TEXT, TEXT, TEXT));
  }

  private static SqlFunction add(
      String name, SqlReturnTypeInference type, SqlOperandTypeChecker operands) {
    SqlFunction function =
        new SqlFunction(
            new SqlIdentifier(name, SqlParserPos.ZERO),
            type,
            null,
            operands,
            null,
            SqlFunctionCategory.USER_DEFINED_FUNCTION);
    ALL.add(function);
    return function;
  }
}
