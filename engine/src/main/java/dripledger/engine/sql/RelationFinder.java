package dripledger.engine.sql;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Figures;
import dripledger.grammar.Statement;
import dripledger.grammar.StatementNode;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Set;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlDelete;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlInsert;
import org.apache.calcite.sql.SqlJoin;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlMatchRecognize;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlSelect;
import org.apache.calcite.sql.SqlUpdate;

/** Finds the relations whose names a statement says. */
final class RelationFinder extends org.apache.calcite.sql.util.SqlBasicVisitor<Void> {
  private final Catalog catalog;
  private final Set<CatalogObject> found = new LinkedHashSet<>();

  private RelationFinder(Catalog catalog) {
    this.catalog = catalog;
  }

  static List<CatalogObject> relations(SqlNode node, Catalog catalog) {
    RelationFinder finder = new RelationFinder(catalog);
    if (node instanceof StatementNode own) {
      Statement s = own.statement();
      SqlNode query =
          s instanceof Statement.CreateView v
              ? v.query()
              : s instanceof Statement.Follow f
                  ? f.query()
                  : s instanceof Statement.Explain e ? e.target() : null;
      return query == null ? List.of() : relations(query, catalog);
    }
    node.accept(finder);
    return List.copyOf(finder.found);
  }

  @Override
  public Void visit(SqlCall call) {
    if (call instanceof SqlSelect select) {
      read(select.getFrom());
    } else if (call instanceof SqlUpdate update) {
      read(update.getTargetTable());
    } else if (call instanceof SqlDelete delete) {
      read(delete.getTargetTable());
    } else if (call instanceof SqlInsert insert) {
      read(insert.getTargetTable());
    }
    return super.visit(call);
  }

  private CatalogObject object(SqlIdentifier id) {
    String name = id.names.get(id.names.size() - 1);
    return id.names.size() == 2 && id.names.get(0).equalsIgnoreCase("drip")
        ? Figures.named(name)
        : catalog.find(name);
  }

  private void read(SqlNode from) {
    if (from instanceof SqlIdentifier id) {
      CatalogObject object = object(id);
      if (object != null && !(object instanceof CatalogObject.Connection)) {
        found.add(object);
      }
    } else if (from instanceof SqlCall call && call.getKind() == SqlKind.AS) {
      read(call.operand(0));
    } else if (from instanceof SqlJoin join) {
      read(join.getLeft());
      read(join.getRight());
    } else if (from instanceof SqlCall call
        && (call.getKind() == SqlKind.COLLECTION_TABLE
            || call.getKind() == SqlKind.EXPLICIT_TABLE
            || call.getKind() == SqlKind.SET_SEMANTICS_TABLE)) {
      read(call.operand(0));
    } else if (from instanceof SqlMatchRecognize match) {
      read(match.getTableRef());
    } else if (TimeWindowCalls.isOne(from)) {
      read(((SqlCall) from).operand(0));
    }
  }
}
