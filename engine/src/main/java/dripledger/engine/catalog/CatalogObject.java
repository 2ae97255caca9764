package dripledger.engine.catalog;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Schema;
import java.util.List;
import java.util.Map;
import java.util.Set;

/** A defined thing: its number, name, the statement that made it, and its columns. Immutable. */
public sealed interface CatalogObject
    permits CatalogObject.Connection,
        CatalogObject.Stream,
        CatalogObject.Table,
        CatalogObject.View,
        CatalogObject.MaterializedView,
        CatalogObject.Sink,
        CatalogObject.Endpoint,
        Figures {
  /** Unique for ever; a thing dropped and made again has a new one. */
  long id();

  String name();

  /** The CREATE statement as it was written. */
  String sql();

  Schema schema();

  /** The FROM clause of a stream or table, or null. */
  static SourceSpec sourceOf(CatalogObject object) {
    return object instanceof Stream s ? s.source() : object instanceof Table t ? t.source() : null;
  }

  /** Where the values of a stream's or table's columns come from. */
  static Origins originsOf(CatalogObject object) {
    return object instanceof Stream s
        ? s.origins()
        : object instanceof Table t ? t.origins() : Origins.NONE;
  }

  /** The word for it in SHOW and messages. */
  String kind();

  /** What is said of it when it is dropped. */
  default String dropped() {
    return kind() + " " + name();
  }

  /** The word with its article. */
  default String aKind() {
    return ("aeiou".indexOf(kind().charAt(0)) < 0 ? "a " : "an ") + kind();
  }

  /**
   * A way to an outside system.
   *
   * @param type {@code kafka}, {@code postgres} or {@code file}
   * @param options by lower-case name
   */
  record Connection(long id, String name, String sql, String type, Map<String, Option> options)
      implements CatalogObject {
    public Connection {
      options = Map.copyOf(options);
    }

    /**
     * The value of an option.
     *
     * @param text the value, or the name of the secret that is the value
     */
    public record Option(String text, boolean secret) {}

    @Override
    public Schema schema() {
      return new Schema(List.of());
    }

    @Override
    public String kind() {
      return "connection";
    }
  }

  /**
   * Events: pushed to us, or read from a source.
   *
   * @param eventTime the event time column, or −1
   * @param latenessMicros how late an event may be
   * @param origins where the values of columns come from
   * @param source where they are read, or null if they are pushed
   * @param addedAt for columns added later, by index: how far the source had been read then; events
   *     before it do not have them
   */
  record Stream(
      long id,
      String name,
      String sql,
      Schema schema,
      int eventTime,
      long latenessMicros,
      Origins origins,
      SourceSpec source,
      Map<Integer, SourcePosition> addedAt)
      implements CatalogObject {
    @Override
    public String kind() {
      return "stream";
    }

    /** The same stream, if its events were pushed. */
    public Stream pushed() {
      return source == null
          ? this
          : new Stream(id, name, sql, schema, eventTime, latenessMicros, origins, null, addedAt);
    }

    /** Whether its events are in the ledger: those that are pushed, and those it is to retain. */
    public boolean inLedger() {
      return source == null || source.option("retain") != null;
    }
  }

  /** What the transport of a message knows. */
  enum Meta {
    /** When we took it in. */
    ARRIVED_AT,
    /** When the source says it was written. */
    RECORD_TIME,
    PARTITION,
    POSITION,
    KEY,
    /** All headers as a JSON object. */
    HEADERS
  }

  /**
   * Keyed rows: changed by statements, or following a source.
   *
   * @param origins where the values of columns come from
   * @param source what they follow, or null if they are changed by statements
   */
  record Table(
      long id,
      String name,
      String sql,
      Schema schema,
      int[] primaryKey,
      Origins origins,
      SourceSpec source)
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
      Upkeep upkeep,
      boolean keepsLate)
      implements CatalogObject {
    @Override
    public String kind() {
      return "materialized view";
    }
  }

  /**
   * A delivery: what a query's answer changes, carried on to an outside system.
   *
   * @param key the columns that tell its rows apart, or that say where a message belongs; or null
   * @param snapshot whether what is there when it is made is carried first
   * @param target where it goes, with options
   */
  record Sink(
      long id,
      String name,
      String sql,
      Schema schema,
      PlanNode plan,
      int[] key,
      Rows rows,
      boolean snapshot,
      Set<Long> dependsOn,
      SourceSpec target,
      Upkeep upkeep)
      implements CatalogObject {
    /** In which form changes are carried. */
    public enum Rows {
      /** Rows that come; none ever goes. */
      APPEND,
      /** For each key the row that it has now, or that it has none any more. */
      UPSERT,
      /** What was, and what is. */
      CHANGES;

      /** The word for it. */
      public String word() {
        return name().toLowerCase(java.util.Locale.ROOT);
      }
    }

    @Override
    public String kind() {
      return "sink";
    }

    /** Where it goes, in words. */
    public String place() {
      String what =
          target.option(
              "topic", target.option("table", target.option("path", target.option("files", ""))));
      return target.connection() + (what.isEmpty() ? "" : ": " + what);
    }

    @Override
    public String dropped() {
      return CatalogObject.super.dropped()
          + " (what it has delivered stays at "
          + place()
          + "; what waited is given up)";
    }
  }

  /**
   * A query with parameters that is called by its name.
   *
   * @param schema the columns of its answer
   * @param description or null
   * @param maxRows an answer of more is an error
   * @param maxRead a call that reads more rows is ended; 0 for any number
   * @param pageRows rows of a page; 0 if it is answered as a whole
   * @param cacheMillis for how long an answer is given again; 0 for never
   * @param query as text
   * @param dependsOn what it reads
   */
  record Endpoint(
      long id,
      String name,
      String sql,
      Schema schema,
      List<EndpointParameter> parameters,
      String description,
      int maxRows,
      long maxRead,
      int pageRows,
      long cacheMillis,
      String query,
      Set<Long> dependsOn)
      implements CatalogObject {
    public Endpoint {
      parameters = List.copyOf(parameters);
      dependsOn = Set.copyOf(dependsOn);
    }

    @Override
    public String kind() {
      return "endpoint";
    }
  }
}
