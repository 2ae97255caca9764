package dripledger.engine.sql;

import dripledger.grammar.DistinctOnSelect;
import java.util.ArrayList;
import java.util.List;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.SqlWindow;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.parser.SqlParserPos;
import org.apache.calcite.util.Litmus;

/**
 * SELECT DISTINCT ON (a, b) … ORDER BY …: of each group of rows the first in the order, which is a
 * condition on row numbers. Stateless.
 */
final class DistinctOn {
  private DistinctOn() {}

  /** Makes it a SELECT like any other. */
  static void rewrite(DistinctOnSelect select, SqlNodeList order) {
    SqlNodeList on = select.takeOn();
    if (on == null) {
      return;
    }
    SqlParserPos pos = on.getParserPosition();
    List<SqlNode> keys = new ArrayList<>();
    on.forEach(item -> keys.add(meant(item, select)));
    List<SqlNode> items = new ArrayList<>();
    order.forEach(item -> items.add(ordered(item, select)));
    for (int i = 0; i < Math.min(items.size(), keys.size()); i++) {
      SqlNode first = plain(items.get(i));
      if (keys.stream().noneMatch(key -> key.equalsDeep(first, Litmus.IGNORE))) {
        throw SqlErrors.invalid(
            order.get(i),
            "ORDER BY does not begin with what DISTINCT ON is of",
            "first its expressions, then what says which row of each is the first");
      }
    }
    SqlNode window =
        SqlWindow.create(
            null,
            null,
            new SqlNodeList(keys, pos),
            new SqlNodeList(items, pos),
            SqlLiteral.createBoolean(false, SqlParserPos.ZERO),
            null,
            null,
            null,
            SqlWindow.createExcludeNoOthers(pos),
            pos);
    SqlNode first =
        SqlStdOperatorTable.EQUALS.createCall(
            pos,
            SqlStdOperatorTable.OVER.createCall(
                pos, SqlStdOperatorTable.ROW_NUMBER.createCall(pos), window),
            SqlLiteral.createExactNumeric("1", pos));
    SqlNode qualify = select.getQualify();
    select.setQualify(
        qualify == null ? first : SqlStdOperatorTable.AND.createCall(pos, qualify, first));
  }

  private static SqlNode plain(SqlNode item) {
    return SyntaxRewriter.isDirection(item) ? plain(((SqlCall) item).operand(0)) : item;
  }

  private static SqlNode ordered(SqlNode item, DistinctOnSelect select) {
    if (SyntaxRewriter.isDirection(item)) {
      SqlCall call = (SqlCall) item;
      return call.getOperator()
          .createCall(call.getParserPosition(), ordered(call.operand(0), select));
    }
    return meant(item, select);
  }

  /** What a name or number of an output column stands for. */
  private static SqlNode meant(SqlNode item, DistinctOnSelect select) {
    List<SqlNode> outputs = select.getSelectList();
    if (item instanceof SqlLiteral literal
        && literal.getValue() instanceof java.math.BigDecimal n) {
      int place = n.intValue();
      return place >= 1 && place <= outputs.size() ? unnamed(outputs.get(place - 1)) : item;
    }
    if (item instanceof SqlIdentifier id && id.isSimple()) {
      for (SqlNode output : outputs) {
        if (output.getKind() == SqlKind.AS
            && ((SqlIdentifier) ((SqlCall) output).operand(1)).getSimple().equals(id.getSimple())) {
          return unnamed(output);
        }
      }
    }
    return item;
  }

  private static SqlNode unnamed(SqlNode output) {
    return output.getKind() == SqlKind.AS ? ((SqlCall) output).operand(0) : output;
  }
}
