package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.grammar.NamedParameter;
import java.math.BigDecimal;
import java.time.Duration;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.util.HexFormat;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import org.apache.calcite.avatica.util.TimeUnit;
import org.apache.calcite.sql.SqlBasicTypeNameSpec;
import org.apache.calcite.sql.SqlDataTypeSpec;
import org.apache.calcite.sql.SqlDynamicParam;
import org.apache.calcite.sql.SqlFunction;
import org.apache.calcite.sql.SqlFunctionCategory;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlIntervalQualifier;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlUnresolvedFunction;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.parser.SqlParserPos;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.util.DateString;
import org.apache.calcite.util.TimeString;
import org.apache.calcite.util.TimestampString;

/** Values of parameters as they would be written in the statement. Stateless. */
final class ArgumentLiterals {
  private static final int MICROS = 6;

  private ArgumentLiterals() {}

  /**
   * What stands for a parameter.
   *
   * @throws EngineException (INVALID) with its place if it has no value, or one that cannot be
   *     written
   */
  static SqlNode of(NamedParameter parameter, Map<String, Object> arguments) {
    String name = parameter.name();
    SqlParserPos pos = parameter.getParserPosition();
    if (!arguments.containsKey(name)) {
      throw new EngineException(
          Code.INVALID,
          "no value was given for " + shown(name),
          pos.getLineNum(),
          pos.getColumnNum(),
          name.startsWith("$")
              ? "bind it, or write a value"
              : "pass it in args: {\"" + name + "\": …}");
    }
    return of(name, arguments.get(name), pos);
  }

  /** What stands for a value that is not known yet, once the statement is rewritten. */
  static final class OpenParameter extends SqlDynamicParam {
    OpenParameter(int index, SqlParserPos pos) {
      super(index, pos);
    }
  }

  private static SqlNode of(String name, Object given, SqlParserPos pos) {
    if (given instanceof Argument.Open open) {
      return cast(new OpenParameter(open.index(), pos), open.type(), pos);
    }
    Object value = Argument.plain(given);
    if (!(given instanceof Argument) && value instanceof Double d && !Double.isFinite(d)) {
      throw new EngineException(
          Code.INVALID,
          "the number given for " + shown(name) + " is too large",
          pos.getLineNum(),
          pos.getColumnNum(),
          "a number has an exponent of 308 at most");
    }
    SqlNode plain = plain(name, value, pos);
    ColumnType type = given instanceof Argument a ? a.type() : null;
    boolean sure =
        type == null
            || type.kind() == Kind.ARRAY
            || type.kind() == Kind.ROW
            || value != null && type.kind().equals(Kind.VARCHAR)
            || value != null && type.kind().equals(Kind.VARBINARY)
            || value != null && type.kind().equals(Kind.INTERVAL_DAY_TIME);
    return sure ? plain : cast(plain, type, pos);
  }

  /** The value without the cast that keeps its type, for where only a number can be. */
  static SqlNode bare(SqlNode node) {
    return node instanceof org.apache.calcite.sql.SqlBasicCall call
            && call.getOperator() == SqlStdOperatorTable.CAST
            && (call.operand(0) instanceof SqlLiteral || call.operand(0) instanceof OpenParameter)
        ? call.operand(0)
        : node;
  }

  static SqlNode cast(SqlNode value, ColumnType type, SqlParserPos pos) {
    if (type.kind() == Kind.INTERVAL_DAY_TIME) {
      return SqlStdOperatorTable.CAST.createCall(pos, value, daysToSeconds(pos));
    }
    SqlTypeName name =
        switch (type.kind()) {
          case BOOLEAN -> SqlTypeName.BOOLEAN;
          case SMALLINT -> SqlTypeName.SMALLINT;
          case INTEGER -> SqlTypeName.INTEGER;
          case BIGINT -> SqlTypeName.BIGINT;
          case REAL -> SqlTypeName.REAL;
          case DOUBLE -> SqlTypeName.DOUBLE;
          case DECIMAL -> SqlTypeName.DECIMAL;
          case VARBINARY -> SqlTypeName.VARBINARY;
          case DATE -> SqlTypeName.DATE;
          case TIME -> SqlTypeName.TIME;
          case TIMESTAMP -> SqlTypeName.TIMESTAMP;
          default -> SqlTypeName.VARCHAR;
        };
    SqlBasicTypeNameSpec named =
        switch (name) {
          case TIME, TIMESTAMP -> new SqlBasicTypeNameSpec(name, MICROS, pos);
          case DECIMAL -> decimal(value, pos);
          default -> new SqlBasicTypeNameSpec(name, -1, pos);
        };
    SqlDataTypeSpec spec = new SqlDataTypeSpec(named, pos);
    return SqlStdOperatorTable.CAST.createCall(pos, value, spec);
  }

  private static SqlIntervalQualifier daysToSeconds(SqlParserPos pos) {
    return new SqlIntervalQualifier(TimeUnit.DAY, 10, TimeUnit.SECOND, MICROS, pos);
  }

  private static SqlNode interval(String name, Duration value, SqlParserPos pos) {
    Duration length = value.abs();
    if (length.toNanosPart() % 1_000_000 != 0) { // the library counts milliseconds
      throw new EngineException(
          Code.INVALID,
          "the length of time given for " + shown(name) + " is finer than a millisecond",
          pos.getLineNum(),
          pos.getColumnNum(),
          "round it");
    }
    String text =
        String.format(
            Locale.ROOT,
            "%d %02d:%02d:%02d.%03d",
            length.toDays(),
            length.toHoursPart(),
            length.toMinutesPart(),
            length.toSecondsPart(),
            length.toNanosPart() / 1_000_000);
    return SqlLiteral.createInterval(value.isNegative() ? -1 : 1, text, daysToSeconds(pos), pos);
  }

  /** With as many digits as the number has. */
  private static SqlBasicTypeNameSpec decimal(SqlNode value, SqlParserPos pos) {
    BigDecimal number =
        value instanceof SqlLiteral l && l.getTypeName() == SqlTypeName.DECIMAL
            ? l.bigDecimalValue()
            : BigDecimal.ONE;
    int scale = Math.max(0, number.scale());
    int precision = Math.min(38, Math.max(number.precision() - number.scale() + scale, scale) + 1);
    return new SqlBasicTypeNameSpec(SqlTypeName.DECIMAL, precision, scale, pos);
  }

  /** Bytes, which have no literal that could be computed with. */
  static SqlNode binary(byte[] bytes, SqlParserPos pos) {
    SqlFunction decode =
        new SqlUnresolvedFunction(
            new SqlIdentifier("decode", pos),
            null,
            null,
            null,
            null,
            SqlFunctionCategory.USER_DEFINED_FUNCTION);
    return decode.createCall(
        pos,
        SqlLiteral.createCharString(HexFormat.of().formatHex(bytes), pos),
        SqlLiteral.createCharString("hex", pos));
  }

  private static SqlNode plain(String name, Object value, SqlParserPos pos) {
    if (value == null) {
      return SqlLiteral.createNull(pos);
    }
    if (value instanceof Boolean b) {
      return SqlLiteral.createBoolean(b, pos);
    }
    if (value instanceof Double d && !Double.isFinite(d)) {
      SqlNode text = SqlLiteral.createCharString(value.toString(), pos);
      return cast(text, ColumnType.of(Kind.DOUBLE), pos);
    }
    if (value instanceof Double || value instanceof Float) {
      return SqlLiteral.createApproxNumeric(value.toString(), pos);
    }
    if (value instanceof Number) {
      return number(name, new BigDecimal(value.toString()), pos);
    }
    if (value instanceof String text) {
      return SqlLiteral.createCharString(text, pos);
    }
    if (value instanceof LocalDate d) {
      return SqlLiteral.createDate(new DateString(d.toString()), pos);
    }
    if (value instanceof LocalTime t) {
      return SqlLiteral.createTime(
          new TimeString(t.getHour(), t.getMinute(), t.getSecond()).withNanos(t.getNano()),
          MICROS,
          pos);
    }
    if (value instanceof LocalDateTime t) {
      return SqlLiteral.createTimestamp(
          SqlTypeName.TIMESTAMP,
          new TimestampString(
                  t.getYear(),
                  t.getMonthValue(),
                  t.getDayOfMonth(),
                  t.getHour(),
                  t.getMinute(),
                  t.getSecond())
              .withNanos(t.getNano()),
          MICROS,
          pos);
    }
    if (value instanceof Duration d) {
      return interval(name, d, pos);
    }
    if (value instanceof byte[] bytes) {
      return binary(bytes, pos);
    }
    if (value instanceof List<?> list && !list.isEmpty()) {
      SqlNode[] elements = list.stream().map(e -> plain(name, e, pos)).toArray(SqlNode[]::new);
      return SqlStdOperatorTable.ARRAY_VALUE_CONSTRUCTOR.createCall(pos, elements);
    }
    throw new EngineException(
        Code.INVALID,
        "the value of " + shown(name) + " is neither text, a number, true, false, null nor a list",
        pos.getLineNum(),
        pos.getColumnNum(),
        "send an object as text, and read it with JSON_VALUE");
  }

  private static SqlNode number(String name, BigDecimal number, SqlParserPos pos) {
    if (number.precision() > 38 || Math.abs((long) number.scale()) > 38) {
      throw new EngineException(
          Code.INVALID,
          "the number given for " + shown(name) + " has more than 38 digits",
          pos.getLineNum(),
          pos.getColumnNum(),
          "an exact number has 38 at most; send it as text and CAST it to DOUBLE");
    }
    return SqlLiteral.createExactNumeric(number.toPlainString(), pos);
  }

  /** A parameter as the statement writes it. */
  static String shown(String name) {
    return name.startsWith("$") ? name : ":" + name;
  }
}
