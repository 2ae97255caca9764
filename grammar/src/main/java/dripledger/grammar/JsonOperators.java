package dripledger.grammar;

import org.apache.calcite.sql.SqlBinaryOperator;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlOperator;

/** The steps into a JSON value, as the parser knows them; the engine makes functions of them. */
public enum JsonOperators {
  MEMBER("->"),
  MEMBER_TEXT("->>"),
  PATH("#>"),
  PATH_TEXT("#>>");

  // As PostgreSQL: looser than plus, tighter than LIKE and comparisons.
  private static final int PRECEDENCE = 38;

  /** {@code ||}, which binds as these do; the validator puts the library's in its place. */
  public static final SqlBinaryOperator CONCATENATE =
      new SqlBinaryOperator("||", SqlKind.OTHER, PRECEDENCE, true, null, null, null);

  private final SqlOperator operator;

  JsonOperators(String sign) {
    operator = new SqlBinaryOperator(sign, SqlKind.OTHER, PRECEDENCE, true, null, null, null);
  }

  public SqlOperator operator() {
    return operator;
  }

  /** What an operator is, or null if it is none of these. */
  public static JsonOperators of(SqlOperator operator) {
    for (JsonOperators each : values()) {
      if (each.operator == operator) {
        return each;
      }
    }
    return null;
  }
}
