package dripledger.engine.query;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.expr.Expr;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.PreparedQuery;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.Arrays;
import java.util.List;

/**
 * A query that picks columns of the rows with one key: read where they are kept, without a circuit.
 * Holds as long as the catalog stays the same. Immutable; safe from any thread.
 */
public final class PointRead {
  private final Catalog catalog;
  private final long relation;
  private final int way; // 0 for the key, n for index n − 1
  private final int[] key;
  private final String[] parameters;
  private final ColumnType[] types;
  private final int[] picked;
  private final List<Column> columns;

  private PointRead(
      Catalog catalog,
      long relation,
      int way,
      int[] key,
      String[] parameters,
      ColumnType[] types,
      int[] picked,
      List<Column> columns) {
    this.catalog = catalog;
    this.relation = relation;
    this.way = way;
    this.key = key;
    this.parameters = parameters;
    this.types = types;
    this.picked = picked;
    this.columns = columns;
  }

  /**
   * A prepared query as a read by key.
   *
   * @return null if it is something else
   */
  public static PointRead of(PreparedQuery query, Catalog catalog, Snapshot snapshot) {
    Command.QueryPlan plan = query.plan();
    RelationVersion version = snapshot.relations().get(query.relationId());
    if (version == null || !plan.order().isEmpty() || plan.offset() > 0 || plan.limit() >= 0) {
      return null;
    }
    int[] picked = plan.outputs().clone();
    PlanNode below = plan.plan();
    while (below instanceof PlanNode.Transform t) {
      if (t.program().filter() != null || !t.program().onlyPicks()) {
        return null;
      }
      for (int i = 0; i < picked.length; i++) {
        picked[i] = ((Expr.Column) t.program().outputs().get(picked[i])).index();
      }
      below = t.input();
    }
    if (!(below instanceof PlanNode.Source)) {
      return null;
    }
    int way = way(query, version);
    if (way < 0) {
      return null;
    }
    int[] key = (way == 0 ? version : version.others().get(way - 1)).key();
    String[] parameters = new String[key.length];
    ColumnType[] types = new ColumnType[key.length];
    for (int i = 0; i < key.length; i++) {
      int column = key[i];
      types[i] = version.schema().type(column);
      parameters[i] =
          query.bindings().stream()
              .filter(b -> b.column() == column)
              .findFirst()
              .orElseThrow()
              .parameter();
    }
    return new PointRead(
        catalog, query.relationId(), way, key, parameters, types, picked, plan.columns());
  }

  /** Which way in asks for just the columns that are bound; −1 if none does. */
  private static int way(PreparedQuery query, RelationVersion version) {
    for (int way = 0; way <= version.others().size(); way++) {
      int[] key = (way == 0 ? version : version.others().get(way - 1)).key();
      if (key.length == query.bindings().size()
          && Arrays.stream(key)
              .allMatch(k -> query.bindings().stream().anyMatch(b -> b.column() == k))) {
        return way;
      }
    }
    return -1;
  }

  /** Whether it still means what it did. */
  public boolean holds(Catalog now) {
    return catalog == now;
  }

  /** Which parameter each column of the key is compared with, in the order of {@link #find}. */
  public String[] parameters() {
    return parameters;
  }

  /** Of which type the columns of the key are. */
  public ColumnType type(int keyColumn) {
    return types[keyColumn];
  }

  /** Which columns of the relation are answered, in order. */
  public int[] picked() {
    return picked;
  }

  /** What they are called in the answer. */
  public List<Column> columns() {
    return columns;
  }

  /** The relation it reads, by number. */
  public long relation() {
    return relation;
  }

  /**
   * The relation at a snapshot.
   *
   * @return null if the index that it was to be found by has gone
   * @throws dripledger.engine.error.EngineException if it cannot be read
   */
  public RelationVersion at(Snapshot snapshot) {
    RelationVersion version = snapshot.readable(relation);
    if (way == 0) {
      return version;
    }
    List<RelationVersion> others = version.others();
    RelationVersion other = way > others.size() ? null : others.get(way - 1);
    return other != null && Arrays.equals(other.key(), key) ? other : null;
  }
}
