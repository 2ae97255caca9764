package dripledger.engine.expr;

/** What a {@link Expr.Call} does with its operands. */
public enum Operation {
  AND,
  OR,
  NOT,
  /** Conditions and results in turn, and the result if none holds. */
  CASE,
  IS_NULL("IS NULL"),
  IS_NOT_NULL("IS NOT NULL"),
  IS_TRUE("IS TRUE"),
  IS_NOT_TRUE("IS NOT TRUE"),
  IS_FALSE("IS FALSE"),
  IS_NOT_FALSE("IS NOT FALSE"),
  EQUAL("="),
  NOT_EQUAL("<>"),
  LESS("<"),
  LESS_OR_EQUAL("<="),
  GREATER(">"),
  GREATER_OR_EQUAL(">="),
  DISTINCT("IS DISTINCT FROM"),
  NOT_DISTINCT("IS NOT DISTINCT FROM"),
  PLUS("+"),
  MINUS("-"),
  TIMES("*"),
  DIVIDE("/"),
  MODULO("mod"),
  NEGATE("-"),
  CAST,
  /** A cast that answers NULL where {@link #CAST} fails. */
  TRY_CAST,
  /** Text and pattern, and perhaps the escape character. */
  LIKE,
  /** {@link #LIKE} that takes capital and small letters for the same. */
  ILIKE,
  /** Option: the unit. */
  EXTRACT,
  /** Option: the unit. */
  FLOOR_TO("floor"),
  /** Option: the unit. */
  CEIL_TO("ceil"),
  /** Characters and text; option: BOTH, LEADING or TRAILING. */
  TRIM,
  GREATEST,
  LEAST,
  CONCATENATE("||"),
  /** CONCAT, which passes NULLs over. */
  CONCAT,
  /** CONCAT with a separator, the first operand. */
  CONCAT_WS,
  /** Text and path, and a default for each option that is DEFAULT; options: on empty, on error. */
  JSON_VALUE,
  /** Text and path; options: wrapper, on empty, on error. */
  JSON_QUERY,
  /** Text and path; option: on error. */
  JSON_EXISTS,
  EXACT_SECONDS,
  TIMESTAMP_DIFF,
  /** The array of the operands. */
  ARRAY,
  CARDINALITY,
  /** Array and place, from 1 on. */
  ELEMENT,
  /** Value and array; option: the comparison, and ANY or ALL. */
  QUANTIFIED,
  /** The only element of an array; it fails if there are more. */
  ONLY("only value"),
  /** Two arrays, one behind the other; NULL is an array without elements. */
  ARRAY_CONCATENATE("||"),
  /** Array and value: the place of the first element that is it. */
  ARRAY_POSITION,
  /** Array and separator, and perhaps what stands for NULL. */
  ARRAY_TO_STRING,
  /** A value as it stands in JSON; option: it is the name of a member. */
  TO_JSON,
  /** A function of {@link TextBuiltins} and its like; option: its name. */
  FUNCTION;

  private final String sign;

  Operation() {
    sign = name();
  }

  Operation(String sign) {
    this.sign = sign;
  }

  /** As it is written in SQL. */
  public String sign() {
    return sign;
  }

  /** Whether it stands between its operands. */
  boolean isInfix() {
    return switch (this) {
      case AND,
          OR,
          EQUAL,
          NOT_EQUAL,
          LESS,
          LESS_OR_EQUAL,
          GREATER,
          GREATER_OR_EQUAL,
          DISTINCT,
          NOT_DISTINCT,
          PLUS,
          MINUS,
          TIMES,
          DIVIDE,
          CONCATENATE,
          ARRAY_CONCATENATE,
          LIKE,
          ILIKE ->
          true;
      default -> false;
    };
  }

  boolean isPostfix() {
    return switch (this) {
      case IS_NULL, IS_NOT_NULL, IS_TRUE, IS_NOT_TRUE, IS_FALSE, IS_NOT_FALSE -> true;
      default -> false;
    };
  }

  boolean isPrefix() {
    return this == NOT || this == NEGATE;
  }

  /** How tightly it binds its operands; more is tighter. */
  int precedence() {
    return switch (this) {
      case OR -> 1;
      case AND -> 2;
      case NOT -> 3;
      case IS_NULL, IS_NOT_NULL, IS_TRUE, IS_NOT_TRUE, IS_FALSE, IS_NOT_FALSE -> 4;
      case EQUAL,
          NOT_EQUAL,
          LESS,
          LESS_OR_EQUAL,
          GREATER,
          GREATER_OR_EQUAL,
          DISTINCT,
          NOT_DISTINCT ->
          5;
      case LIKE, ILIKE -> 6;
      case PLUS, MINUS, CONCATENATE, ARRAY_CONCATENATE -> 7;
      case TIMES, DIVIDE -> 8;
      case NEGATE -> 9;
      default -> 10;
    };
  }
}
