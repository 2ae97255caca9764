package dripledger.grammar;

import org.apache.calcite.sql.SqlBinaryOperator;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlOperator;

/**
 * Steps into a JSON value and matches with an expression, as the parser knows them; the engine
 * makes functions of them.
 */
public enum OwnOperators {
  MEMBER("->"),
  MEMBER_TEXT("->>"),
  PATH("#>"),
  PATH_TEXT("#>>"),
  MATCHES("~"),
  MATCHES_IN_ANY_CASE("~*"),
  MATCHES_NOT("!~"),
  MATCHES_NOT_IN_ANY_CASE("!~*");

  // As PostgreSQL: looser than plus, tighter than LIKE and comparisons.
  private static final int PRECEDENCE = 38;

  /** {@code ||}, which binds as these do; the validator puts the library's in its place. */
  public static final SqlBinaryOperator CONCATENATE =
      new SqlBinaryOperator("||", SqlKind.OTHER, PRECEDENCE, true, null, null, null);

  private final SqlOperator operator;

  OwnOperators(String sign) {
    operator = new SqlBinaryOperator(sign, SqlKind.OTHER, PRECEDENCE, true, null, null, null);
  }

  public SqlOperator operator() {
    return operator;
  }

  /** What an operator is, or null if it is none of these. */
  public static OwnOperators of(SqlOperator operator) {
    for (OwnOperators each : values()) {
      if (each.operator == operator) {
        return each;
      }
    }
    return null;
  }
}
