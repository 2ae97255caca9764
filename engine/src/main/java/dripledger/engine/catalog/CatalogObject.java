package dripledger.engine.catalog;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Schema;
import java.util.List;
import java.util.Map;
import java.util.Set;

/** A defined thing: its number, name, the statement that made it, and its columns. Immutable. */
public sealed interface CatalogObject {
  /** Unique for ever; a thing dropped and made again has a new one. */
  long id();

  String name();

  /** The CREATE statement as it was written. */
  String sql();

  Schema schema();

  /** The word for it in SHOW and messages. */
  String kind();

  /**
   * Events pushed to us.
   *
   * @param eventTime the event time column, or −1
   * @param latenessMicros how late an event may be
   * @param meta columns filled by the transport, by index
   */
  record Stream(
      long id,
      String name,
      String sql,
      Schema schema,
      int eventTime,
      long latenessMicros,
      Map<Integer, Meta> meta)
      implements CatalogObject {
    @Override
    public String kind() {
      return "stream";
    }
  }

  /** What the transport of a pushed stream knows. */
  enum Meta {
    ARRIVED_AT
  }

  /** Keyed rows changed by statements. */
  record Table(long id, String name, String sql, Schema schema, int[] primaryKey)
      implements CatalogObject {
    @Override
    public String kind() {
      return "table";
    }
  }

  /**
   * A name for a query; keeps nothing.
   *
   * @param query the query's own text
   */
  record View(long id, String name, String sql, Schema schema, String query, Set<Long> dependsOn)
      implements CatalogObject {
    @Override
    public String kind() {
      return "view";
    }
  }

  /**
   * A query kept up to date.
   *
   * @param key the columns it is looked up by, or null if none is known
   * @param keyProven whether the key was proven and not just declared
   * @param dependsOn the plain views and relations its text names
   * @param warnings what the owner should know
   */
  record MaterializedView(
      long id,
      String name,
      String sql,
      Schema schema,
      PlanNode plan,
      int[] key,
      boolean keyProven,
      Set<Long> dependsOn,
      List<String> warnings)
      implements CatalogObject {
    @Override
    public String kind() {
      return "materialized view";
    }
  }
}
