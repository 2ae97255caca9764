package dripledger.engine.sql;

import dripledger.grammar.OwnOperators;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.function.Consumer;
import java.util.stream.Stream;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNumericLiteral;
import org.apache.calcite.sql.SqlUnnestOperator;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.parser.SqlParseException;
import org.apache.calcite.sql.parser.SqlParser;
import org.apache.calcite.sql.parser.SqlParserPos;

/**
 * PostgreSQL's functions that make rows, in FROM: each is an array that is taken apart. And its
 * other ways to write what is a function here: steps into JSON, arrays put together. Stateless.
 */
final class SetFunctions {
  private static final Map<String, String> ARRAYS =
      Map.of(
          "generate_series", "SERIES",
          "json_array_elements", "ELEMENTS_OF_JSON",
          "jsonb_array_elements", "ELEMENTS_OF_JSON",
          "json_array_elements_text", "TEXTS_OF_JSON",
          "jsonb_array_elements_text", "TEXTS_OF_JSON",
          "json_object_keys", "KEYS_OF_JSON",
          "jsonb_object_keys", "KEYS_OF_JSON",
          "string_to_table", "STRING_TO_ARRAY",
          "regexp_split_to_table", "REGEXP_SPLIT_TO_ARRAY");

  private static final Map<String, String> SAME =
      Map.of(
          "jsonb_extract_path", "JSON_EXTRACT_PATH",
          "jsonb_extract_path_text", "JSON_EXTRACT_PATH_TEXT",
          "to_jsonb", "TO_JSON",
          "jsonb_array_length", "JSON_ARRAY_LENGTH",
          "jsonb_typeof", "JSON_TYPEOF");

  private static final long BLOCK = 50_000; // of a long series

  private static final long LARGEST = 1L << 40; // number of a long series

  private static final int MOST_STEPS = 3; // into JSON at once

  private SetFunctions() {}

  /** A function in FROM as an array taken apart, or null if it is none of these. */
  static SqlCall unnested(SqlCall table) {
    if (table.getKind() != SqlKind.COLLECTION_TABLE || !(table.operand(0) instanceof SqlCall f)) {
      return null;
    }
    String array = ARRAYS.get(nameOf(f));
    if (array == null) {
      return null;
    }
    SqlParserPos pos = table.getParserPosition();
    SqlNode blocks = array.equals("SERIES") ? blocks(f) : null;
    if (blocks != null && table.operandCount() == 1) {
      return (SqlCall) blocks;
    }
    SqlUnnestOperator unnest =
        table.operandCount() > 1
            ? SqlStdOperatorTable.UNNEST_WITH_ORDINALITY
            : SqlStdOperatorTable.UNNEST;
    return unnest.createCall(pos, Shorthands.function(array, pos, f.getOperandList()));
  }

  /** A series of constants that is too long for one array, or null. */
  private static SqlNode blocks(SqlCall series) {
    List<SqlNode> given = series.getOperandList();
    List<Long> numbers = given.stream().map(SetFunctions::number).toList();
    if (numbers.contains(null) || numbers.size() < 2) {
      return null;
    }
    long from = numbers.get(0);
    long to = numbers.get(1);
    long step = numbers.size() > 2 ? numbers.get(2) : 1;
    boolean huge = Stream.of(from, to, step).anyMatch(n -> Math.abs(n) > LARGEST);
    if (step == 0 || huge || (to - from) / step < BLOCK) {
      return null; // as an array, which says so if it has too many elements
    }
    long block = step * BLOCK;
    String query =
        "SELECT CAST(b.x + i.x AS %1$s) AS x FROM UNNEST(SERIES(CAST(%2$d AS %1$s), %3$d, %5$d)) AS b (x),"
            + " UNNEST(SERIES(0, %6$s(%5$d - %4$d, %3$d - b.x), %4$d)) AS i (x)";
    String type = Math.max(Math.abs(from), Math.abs(to)) > Integer.MAX_VALUE ? "BIGINT" : "INTEGER";
    try {
      return SqlParser.create(
              String.format(
                  Locale.ROOT, query, type, from, to, step, block, step > 0 ? "LEAST" : "GREATEST"),
              Dialect.PARSER)
          .parseQuery();
    } catch (SqlParseException e) {
      throw new IllegalStateException(e);
    }
  }

  private static Long number(SqlNode node) {
    if (node.getKind() == SqlKind.MINUS_PREFIX) {
      Long positive = number(((SqlCall) node).operand(0));
      return positive == null ? null : -positive;
    }
    return node instanceof SqlNumericLiteral literal && literal.isInteger()
        ? (Long) literal.longValue(true)
        : null;
  }

  /** What a FROM reads, with its functions that make rows taken apart. */
  static void unnest(SqlNode from, Consumer<SqlNode> set) {
    if (!(from instanceof SqlCall call)) {
      return;
    }
    SqlCall array = unnested(call);
    if (array != null) {
      // Called as the function is, and so is its only column.
      SqlParserPos pos = call.getParserPosition();
      SqlIdentifier name = new SqlIdentifier(nameOf(call.operand(0)), pos);
      set.accept(SqlStdOperatorTable.AS.createCall(pos, array, name, name));
      return;
    }
    if (call.getKind() == SqlKind.AS && call.operand(0) instanceof SqlCall named) {
      SqlCall read =
          named.getKind() == SqlKind.LATERAL && named.operand(0) instanceof SqlCall inner
              ? inner
              : named;
      SqlCall apart = unnested(read);
      if (apart != null) {
        List<SqlNode> operands = new ArrayList<>(call.getOperandList());
        operands.set(0, apart);
        if (operands.size() == 2 && read.operandCount() == 1) {
          operands.add(operands.get(1)); // AS n: the column is called so, too
        }
        set.accept(SqlStdOperatorTable.AS.createCall(call.getParserPosition(), operands));
      }
    }
    if (call.getKind() == SqlKind.JOIN) {
      unnest(call.operand(0), now -> call.setOperand(0, now));
      unnest(call.operand(3), now -> call.setOperand(3, now));
    }
    if (call.getKind() == SqlKind.LATERAL) {
      unnest(call.operand(0), set);
    }
  }

  /** A call as the function that it is here; itself if it is none of those known here. */
  static SqlNode rewrite(SqlCall call) {
    SqlParserPos pos = call.getParserPosition();
    SqlNode longer = Shorthands.rewrite(call);
    if (longer != call) {
      return longer;
    }
    OwnOperators step = OwnOperators.of(call.getOperator());
    if (step != null) {
      return jsonStep(step, call);
    }
    String name = nameOf(call);
    if (SAME.containsKey(name)) {
      return Shorthands.function(SAME.get(name), pos, call.getOperandList());
    }
    if (ARRAYS.containsKey(name)) {
      throw SqlErrors.invalid(
          call,
          name + " makes rows, and stands in FROM",
          "for example SELECT g.x FROM " + name + "(…) AS g (x)");
    }
    return switch (name + "/" + call.operandCount()) {
      case "array_append/2" -> joined(pos, call.operand(0), one(pos, call.operand(1)));
      case "array_prepend/2" -> joined(pos, one(pos, call.operand(0)), call.operand(1));
      case "array_cat/2" -> joined(pos, call.operand(0), call.operand(1));
      case "array_length/2" -> arrayLength(call);
      case "age/1" -> sinceToday(call);
      default -> call;
    };
  }

  private static SqlNode arrayLength(SqlCall call) {
    if (!call.operand(1).toString().equals("1")) {
      throw SqlErrors.invalid(
          call, "an array has one dimension", "write array_length(a, 1), or CARDINALITY(a)");
    }
    SqlParserPos pos = call.getParserPosition();
    return SqlStdOperatorTable.NULLIF.createCall(
        pos,
        SqlStdOperatorTable.CARDINALITY.createCall(pos, call.<SqlNode>operand(0)),
        SqlLiteral.createExactNumeric("0", pos));
  }

  private static SqlNode sinceToday(SqlCall call) {
    SqlParserPos pos = call.getParserPosition();
    SqlNode today =
        SqlStdOperatorTable.FLOOR.createCall(
            pos,
            Dialect.NOW.createCall(pos),
            new org.apache.calcite.sql.SqlIntervalQualifier(
                org.apache.calcite.avatica.util.TimeUnit.DAY, null, pos));
    return Shorthands.function("AGE", pos, List.of(today, call.operand(0)));
  }

  private static SqlNode one(SqlParserPos pos, SqlNode element) {
    return Dialect.ARRAY.createCall(pos, element);
  }

  private static SqlNode joined(SqlParserPos pos, SqlNode first, SqlNode second) {
    return SqlStdOperatorTable.CONCAT.createCall(pos, first, second);
  }

  /** {@code ->} and its kin. */
  private static SqlNode jsonStep(OwnOperators step, SqlCall call) {
    SqlParserPos pos = call.getParserPosition();
    SqlNode json = call.operand(0);
    SqlNode where = call.operand(1);
    switch (step) {
      case MEMBER:
        return Shorthands.function("JSON_MEMBER", pos, List.of(json, where));
      case MEMBER_TEXT:
        return Shorthands.function("JSON_MEMBER_TEXT", pos, List.of(json, where));
      default:
        List<SqlNode> operands = new ArrayList<>();
        List<SqlNode> steps = path(call, where);
        for (; steps.size() > MOST_STEPS; steps = steps.subList(MOST_STEPS, steps.size())) {
          operands.add(json);
          operands.addAll(steps.subList(0, MOST_STEPS));
          json = Shorthands.function("JSON_EXTRACT_PATH", pos, List.copyOf(operands));
          operands.clear();
        }
        operands.add(json);
        operands.addAll(steps);
        String name = step == OwnOperators.PATH ? "JSON_EXTRACT_PATH" : "JSON_EXTRACT_PATH_TEXT";
        return Shorthands.function(name, pos, operands);
    }
  }

  private static List<SqlNode> path(SqlCall call, SqlNode where) {
    if (where instanceof SqlCall array
        && (array.getOperator() == Dialect.ARRAY
            || array.getKind() == SqlKind.ARRAY_VALUE_CONSTRUCTOR)) {
      return array.getOperandList();
    }
    String text = where instanceof SqlLiteral literal ? literal.toValue() : null;
    if (text == null || !text.matches("\\{[^{}\"]*}")) {
      throw SqlErrors.invalid(
          call, "a path into JSON is a list of names", "for example doc #>> '{items,0,name}'");
    }
    List<SqlNode> steps = new ArrayList<>();
    for (String name : text.substring(1, text.length() - 1).split(",")) {
      steps.add(SqlLiteral.createCharString(name.trim(), where.getParserPosition()));
    }
    return steps;
  }

  private static String nameOf(SqlNode call) {
    return ((SqlCall) call).getOperator().getName().toLowerCase(Locale.ROOT);
  }
}
