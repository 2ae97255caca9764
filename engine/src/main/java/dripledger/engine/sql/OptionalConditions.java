package dripledger.engine.sql;

import dripledger.grammar.NamedParameter;
import java.util.Set;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlDynamicParam;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlSelect;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.util.SqlBasicVisitor;

/**
 * Leaves conditions out that ask for a parameter which was not given: of those that AND puts
 * together in WHERE and HAVING, each that names it. Changes the tree it is given. Stateless.
 */
final class OptionalConditions extends SqlBasicVisitor<Void> {
  private final Set<String> absent;

  private OptionalConditions(Set<String> absent) {
    this.absent = absent;
  }

  static void drop(SqlNode statement, Set<String> absent) {
    if (!absent.isEmpty()) {
      statement.accept(new OptionalConditions(absent));
    }
  }

  @Override
  public Void visit(SqlCall call) {
    if (call instanceof SqlSelect select) {
      if (select.getWhere() != null) {
        select.setWhere(without(select.getWhere()));
      }
      if (select.getHaving() != null) {
        select.setHaving(without(select.getHaving()));
      }
    }
    return super.visit(call);
  }

  private SqlNode without(SqlNode condition) {
    if (condition.getKind() == SqlKind.AND) {
      SqlNode left = without(((SqlCall) condition).operand(0));
      SqlNode right = without(((SqlCall) condition).operand(1));
      return left == null
          ? right
          : right == null
              ? left
              : SqlStdOperatorTable.AND.createCall(condition.getParserPosition(), left, right);
    }
    return names(condition) ? null : condition;
  }

  private boolean names(SqlNode condition) {
    boolean[] found = new boolean[1];
    condition.accept(
        new SqlBasicVisitor<Void>() {
          @Override
          public Void visit(SqlDynamicParam param) {
            found[0] |= param instanceof NamedParameter p && absent.contains(p.name());
            return null;
          }
        });
    return found[0];
  }
}
