package dripledger.engine.catalog;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
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
  }

  /**
   * A query with parameters that is called by its name.
   *
   * @param schema the columns of its answer
   * @param description or null
   * @param maxRows an answer of more is an error
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

  /** A table of schema {@code drip}: its rows are made when it is read. */
  record Figures(long id, String name, Schema schema) implements CatalogObject {
    /** Messages and pushed events that were not taken. */
    public static final Figures REJECTS =
        new Figures(
            -11,
            "rejects",
            new Schema(
                List.of(
                    column("id", Kind.BIGINT),
                    column("object", Kind.VARCHAR),
                    column("at", Kind.TIMESTAMP),
                    column("reason", Kind.VARCHAR),
                    column("origin", Kind.VARCHAR),
                    column("raw", Kind.VARCHAR),
                    column("raw_bytes", Kind.VARBINARY),
                    column("key_bytes", Kind.VARBINARY))));

    /** What each stream, table or shared connection reads, and how far. */
    public static final Figures INPUTS =
        new Figures(
            -12,
            "inputs",
            new Schema(
                List.of(
                    column("name", Kind.VARCHAR),
                    column("connection", Kind.VARCHAR),
                    column("state", Kind.VARCHAR),
                    column("reason", Kind.VARCHAR),
                    column("position", Kind.VARCHAR),
                    column("messages", Kind.BIGINT),
                    column("bytes", Kind.BIGINT),
                    column("behind", Kind.BIGINT),
                    column("behind_unit", Kind.VARCHAR),
                    column("kept_bytes", Kind.BIGINT))));

    /** How messages have left their declarations. */
    public static final Figures DRIFT =
        new Figures(
            -13,
            "drift",
            new Schema(
                List.of(
                    column("object", Kind.VARCHAR),
                    column("field", Kind.VARCHAR),
                    column("what", Kind.VARCHAR),
                    column("messages", Kind.BIGINT),
                    column("type", Kind.VARCHAR),
                    column("example", Kind.VARCHAR),
                    column("first_origin", Kind.VARCHAR))));

    /** The watermark of each partition of a stream. */
    public static final Figures PARTITIONS =
        new Figures(
            -14,
            "partitions",
            new Schema(
                List.of(
                    column("stream", Kind.VARCHAR),
                    column("partition", Kind.INTEGER),
                    column("watermark", Kind.TIMESTAMP),
                    column("idle", Kind.BOOLEAN))));

    /** Every statement that defined something, and when what it made was dropped. */
    public static final Figures HISTORY =
        new Figures(
            -15,
            "history",
            new Schema(
                List.of(
                    column("name", Kind.VARCHAR),
                    column("kind", Kind.VARCHAR),
                    column("defined_at", Kind.TIMESTAMP),
                    column("dropped_at", Kind.TIMESTAMP),
                    column("statement", Kind.VARCHAR))));

    /** Rows that steps of views left out because they came too late, by how much. */
    public static final Figures LATE =
        new Figures(
            -16,
            "late",
            new Schema(
                List.of(
                    column("view", Kind.VARCHAR),
                    column("step", Kind.VARCHAR),
                    column("by_up_to", Kind.VARCHAR),
                    column("rows", Kind.BIGINT))));

    /** How far time has come: of each stream, and of each step of a view that waits for it. */
    public static final Figures WATERMARKS =
        new Figures(
            -17,
            "watermarks",
            new Schema(
                List.of(
                    column("name", Kind.VARCHAR),
                    column("step", Kind.VARCHAR),
                    column("watermark", Kind.TIMESTAMP),
                    column("highest_at", Kind.TIMESTAMP),
                    column("seconds_behind", Kind.BIGINT),
                    column("waiting", Kind.BIGINT),
                    column("bound", Kind.VARCHAR))));

    /** What was done to views that are refreshed from time to time. */
    public static final Figures UPKEEP =
        new Figures(
            -18,
            "upkeep",
            new Schema(
                List.of(
                    column("view", Kind.VARCHAR),
                    column("began", Kind.TIMESTAMP),
                    column("cause", Kind.VARCHAR),
                    column("epoch", Kind.BIGINT),
                    column("read", Kind.BIGINT),
                    column("put_in", Kind.BIGINT),
                    column("taken_out", Kind.BIGINT),
                    column("unchanged", Kind.BIGINT),
                    column("late", Kind.BIGINT),
                    column("rejected", Kind.BIGINT),
                    column("ms", Kind.DOUBLE),
                    column("failure", Kind.VARCHAR))));

    /** How long it took until what came in was shown, by view and minute. */
    public static final Figures FRESHNESS =
        new Figures(
            -19,
            "freshness",
            new Schema(
                List.of(
                    column("view", Kind.VARCHAR),
                    column("minute", Kind.TIMESTAMP),
                    column("shown", Kind.BIGINT),
                    column("in_time", Kind.BIGINT),
                    column("arrival_ms", Kind.DOUBLE),
                    column("worst_arrival_ms", Kind.DOUBLE),
                    column("event_ms", Kind.DOUBLE),
                    column("worst_event_ms", Kind.DOUBLE),
                    column("wanted_ms", Kind.DOUBLE))));

    /** The statements that are being carried out. */
    public static final Figures ACTIVITY =
        new Figures(
            -20,
            "activity",
            new Schema(
                List.of(
                    column("number", Kind.BIGINT),
                    column("id", Kind.VARCHAR),
                    column("since", Kind.TIMESTAMP),
                    column("ms", Kind.BIGINT),
                    column("statement", Kind.VARCHAR))));

    /** What calls of endpoints took since the start; times of the last thousand. */
    public static final Figures ENDPOINTS =
        new Figures(
            -21,
            "endpoints",
            new Schema(
                List.of(
                    column("name", Kind.VARCHAR),
                    column("calls", Kind.BIGINT),
                    column("errors", Kind.BIGINT),
                    column("p50_ms", Kind.DOUBLE),
                    column("p99_ms", Kind.DOUBLE))));

    /** All of them. */
    public static final List<Figures> ALL =
        List.of(
            REJECTS,
            INPUTS,
            DRIFT,
            PARTITIONS,
            HISTORY,
            LATE,
            WATERMARKS,
            UPKEEP,
            FRESHNESS,
            ACTIVITY,
            ENDPOINTS);

    private static Column column(String name, Kind kind) {
      return new Column(name, ColumnType.of(kind));
    }

    @Override
    public String sql() {
      return "";
    }

    @Override
    public String kind() {
      return "table of figures";
    }
  }
}
