package dripledger.engine.query;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.expr.Program;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.PreparedQuery;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.Arrays;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;

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
    boolean all = plan.offset() == 0 && plan.limit() < 0;
    if (!all
        || !plan.order().isEmpty()
        || plan.limitParameter() >= 0
        || plan.offsetParameter() >= 0) {
      return null;
    }
    int[] picked = plan.outputs().clone();
    Map<Integer, Integer> asked = null; // parameters by the columns that they are compared with
    PlanNode below = plan.plan();
    while (below instanceof PlanNode.Transform t) {
      Program program = t.program();
      if (program.filter() != null) {
        asked = t.input() instanceof PlanNode.Source ? comparisons(program.filter()) : null;
        if (asked == null) {
          return null;
        }
      }
      for (int i = 0; i < picked.length; i++) {
        if (!(program.outputs().get(picked[i]) instanceof Expr.Column column)) {
          return null;
        }
        picked[i] = column.index();
      }
      below = t.input();
    }
    RelationVersion version =
        below instanceof PlanNode.Source s ? snapshot.relations().get(s.relationId()) : null;
    int way = version == null || asked == null ? -1 : way(asked.keySet(), version);
    if (way < 0) {
      return null;
    }
    int[] key = (way == 0 ? version : version.others().get(way - 1)).key();
    String[] parameters = new String[key.length];
    ColumnType[] types = new ColumnType[key.length];
    for (int i = 0; i < key.length; i++) {
      types[i] = version.schema().type(key[i]);
      int parameter = asked.get(key[i]);
      parameters[i] =
          parameter < query.parameters().size() ? query.parameters().get(parameter) : null;
      boolean known = types[i].kind() == Kind.VARCHAR || types[i].kind().isInteger();
      if (!known || parameters[i] == null) {
        return null;
      }
    }
    long relation = ((PlanNode.Source) below).relationId();
    return new PointRead(catalog, relation, way, key, parameters, types, picked, plan.columns());
  }

  /** Which columns must be equal to which parameters, if a filter asks nothing else; or null. */
  private static Map<Integer, Integer> comparisons(Expr filter) {
    Map<Integer, Integer> found = new HashMap<>();
    return compared(filter, found) ? found : null;
  }

  private static boolean compared(Expr filter, Map<Integer, Integer> into) {
    if (!(filter instanceof Expr.Call call)) {
      return false;
    }
    if (call.operation() == Operation.AND) {
      return call.operands().stream().allMatch(o -> compared(o, into));
    }
    if (call.operation() != Operation.EQUAL) {
      return false;
    }
    Expr one = Expr.narrow(call.operand(0));
    Expr other = Expr.narrow(call.operand(1));
    return one instanceof Expr.Column c && other instanceof Expr.Parameter p
        ? into.put(c.index(), p.index()) == null
        : one instanceof Expr.Parameter q
            && other instanceof Expr.Column d
            && into.put(d.index(), q.index()) == null;
  }

  /** Which way in asks for just these columns; −1 if none does. */
  private static int way(Set<Integer> columns, RelationVersion version) {
    for (int way = 0; way <= version.others().size(); way++) {
      int[] key = (way == 0 ? version : version.others().get(way - 1)).key();
      if (key.length == columns.size() && Arrays.stream(key).allMatch(columns::contains)) {
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
