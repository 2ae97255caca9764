package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import java.util.Set;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlJsonConstructorNullClause;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.fun.SqlCase;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.parser.SqlParserPos;

/**
 * Objects and arrays of JSON that are made of values, put together of the texts of their members. A
 * member that is itself made of JSON stands there as it is; any other text is put in quotes.
 * Stateless.
 */
final class JsonMakers {
  /** What is JSON already, by the names of functions. */
  private static final Set<String> MADE =
      Set.of(
          "JSON_MADE",
          "TO_JSON",
          "JSON_MEMBER",
          "JSON_EXTRACT_PATH",
          "JSON_QUERY",
          "JSON_AGG",
          "JSONB_AGG",
          "JSON_OBJECT_AGG",
          "JSONB_OBJECT_AGG");

  private JsonMakers() {}

  /** What makes a piece of JSON; the call itself if it makes none. */
  static SqlNode rewrite(SqlCall call) {
    List<SqlNode> given = call.getOperandList();
    return switch (call.getOperator().getName().toUpperCase(Locale.ROOT)) {
      case "JSON_BUILD_OBJECT", "JSONB_BUILD_OBJECT" -> object(call, given, false);
      case "JSON_BUILD_ARRAY", "JSONB_BUILD_ARRAY" -> array(call, given, false);
      case "TO_JSON", "TO_JSONB" ->
          given.size() == 1 && given.get(0) instanceof SqlCall inner && isMade(inner)
              ? inner
              : call;
      case "JSON_OBJECT" -> object(call, given.subList(1, given.size()), leavesOut(given.get(0)));
      case "JSON_ARRAY" -> array(call, given.subList(1, given.size()), leavesOut(given.get(0)));
      default -> call;
    };
  }

  private static boolean leavesOut(SqlNode clause) {
    return clause instanceof SqlLiteral literal
        && literal.getValue() == SqlJsonConstructorNullClause.ABSENT_ON_NULL;
  }

  private static SqlNode object(SqlCall call, List<SqlNode> given, boolean leavesOut) {
    if (given.size() % 2 != 0) {
      throw SqlErrors.invalid(
          call,
          "an object is made of names and values, and there is a name without a value",
          "for example json_build_object('gate', gate, 'scans', scans)");
    }
    SqlParserPos pos = call.getParserPosition();
    List<SqlNode> members = new ArrayList<>();
    for (int i = 0; i < given.size(); i += 2) {
      SqlNode name = Shorthands.function("JSON_NAME", pos, List.of(given.get(i)));
      SqlNode named = joined(pos, joined(pos, name, text(pos, ": ")), member(given.get(i + 1)));
      members.add(leavesOut ? unlessNull(given.get(i + 1), named) : named);
    }
    return made(pos, "{", members, "}");
  }

  private static SqlNode array(SqlCall call, List<SqlNode> given, boolean leavesOut) {
    List<SqlNode> members = new ArrayList<>();
    for (SqlNode each : given) {
      members.add(leavesOut ? unlessNull(each, member(each)) : member(each));
    }
    return made(call.getParserPosition(), "[", members, "]");
  }

  private static SqlNode made(SqlParserPos pos, String open, List<SqlNode> members, String close) {
    SqlNode inner = text(pos, "");
    if (!members.isEmpty()) {
      List<SqlNode> operands = new ArrayList<>(members);
      operands.add(0, text(pos, ", "));
      inner = Shorthands.function("CONCAT_WS", pos, operands);
    }
    SqlNode whole = joined(pos, joined(pos, text(pos, open), inner), text(pos, close));
    return Shorthands.function("JSON_MADE", pos, List.of(whole));
  }

  /** A value as it stands in JSON; NULL is null there. */
  private static SqlNode member(SqlNode value) {
    SqlParserPos pos = value.getParserPosition();
    return SqlStdOperatorTable.COALESCE.createCall(pos, json(value), text(pos, "null"));
  }

  private static SqlNode json(SqlNode value) {
    return value instanceof SqlCall call && isMade(call)
        ? value
        : Shorthands.function("TO_JSON", value.getParserPosition(), List.of(value));
  }

  private static boolean isMade(SqlCall call) {
    SqlNode inner =
        call.getKind() == SqlKind.FILTER || call.getKind() == SqlKind.OVER ? call.operand(0) : call;
    return inner instanceof SqlCall function
        && MADE.contains(function.getOperator().getName().toUpperCase(Locale.ROOT));
  }

  private static SqlNode unlessNull(SqlNode value, SqlNode member) {
    SqlParserPos pos = value.getParserPosition();
    return SqlCase.createSwitched(
        pos,
        null,
        SqlNodeList.of(SqlStdOperatorTable.IS_NOT_NULL.createCall(pos, value)),
        SqlNodeList.of(member),
        SqlLiteral.createNull(pos));
  }

  private static SqlNode joined(SqlParserPos pos, SqlNode first, SqlNode second) {
    return SqlStdOperatorTable.CONCAT.createCall(pos, first, second);
  }

  private static SqlNode text(SqlParserPos pos, String text) {
    return SqlLiteral.createCharString(text, pos);
  }
}
