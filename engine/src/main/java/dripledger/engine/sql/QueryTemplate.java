package dripledger.engine.sql;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.row.ColumnType;
import dripledger.grammar.NamedParameter;
import java.util.ArrayList;
import java.util.List;
import java.util.regex.Pattern;
import org.apache.calcite.sql.SqlBasicCall;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlDynamicParam;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlOrderBy;
import org.apache.calcite.sql.SqlSelect;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.util.SqlBasicVisitor;

/**
 * Takes the conditions {@code column = :parameter} out of a query, so that it can be planned once.
 * Changes the tree it is given. Single use.
 */
final class QueryTemplate {
  private static final Pattern CLOCK =
      Pattern.compile("(?i)\\b(now|current_\\w+|localtime\\w*)\\b");

  private final List<PreparedQuery.Binding> bindings = new ArrayList<>();
  private CatalogObject relation;

  /** Whether the query's text asks for the time, which a plan would keep. */
  static boolean asksTheClock(String text) {
    return CLOCK.matcher(text).find();
  }

  /** Prepares a query; false if it is not of the form that can be. */
  boolean prepare(SqlNode query, Catalog catalog) {
    SqlNode inner = query instanceof SqlOrderBy ordered ? ordered.query : query;
    if (!(inner instanceof SqlSelect select)) {
      return false;
    }
    SqlNode from = select.getFrom();
    SqlNode name =
        from instanceof SqlCall call && from.getKind() == SqlKind.AS ? call.operand(0) : from;
    if (!(name instanceof SqlIdentifier id) || !id.isSimple()) {
      return false;
    }
    relation = catalog.find(id.getSimple());
    if (!(relation instanceof CatalogObject.Table)
        && !(relation instanceof CatalogObject.MaterializedView)) {
      return false;
    }
    if (select.getWhere() != null) {
      select.setWhere(without(select.getWhere()));
    }
    boolean[] left = new boolean[1];
    query.accept(
        new SqlBasicVisitor<Void>() {
          @Override
          public Void visit(SqlDynamicParam param) {
            left[0] = true;
            return null;
          }
        });
    return !left[0];
  }

  CatalogObject relation() {
    return relation;
  }

  List<PreparedQuery.Binding> bindings() {
    return bindings;
  }

  /** The condition without the comparisons that are bound; null if nothing is left of it. */
  private SqlNode without(SqlNode condition) {
    if (condition.getKind() == SqlKind.AND) {
      SqlCall and = (SqlCall) condition;
      SqlNode left = without(and.operand(0));
      SqlNode right = without(and.operand(1));
      return left == null
          ? right
          : right == null
              ? left
              : SqlStdOperatorTable.AND.createCall(condition.getParserPosition(), left, right);
    }
    if (condition.getKind() == SqlKind.EQUALS && condition instanceof SqlBasicCall equals) {
      boolean taken =
          bind(equals.operand(0), equals.operand(1)) || bind(equals.operand(1), equals.operand(0));
      return taken ? null : condition;
    }
    return condition;
  }

  private boolean bind(SqlNode column, SqlNode value) {
    if (!(column instanceof SqlIdentifier id) || !(value instanceof NamedParameter parameter)) {
      return false;
    }
    int index = id.isSimple() ? relation.schema().indexOf(id.getSimple()) : -1;
    if (index < 0 || bindings.stream().anyMatch(b -> b.column() == index)) {
      return false;
    }
    ColumnType type = relation.schema().type(index);
    boolean text = type.kind() == ColumnType.Kind.VARCHAR;
    if (!text && !type.kind().isInteger()) {
      return false;
    }
    bindings.add(new PreparedQuery.Binding(index, parameter.name(), text));
    return true;
  }
}
