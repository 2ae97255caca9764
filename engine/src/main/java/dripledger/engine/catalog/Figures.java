package dripledger.engine.catalog;

import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.util.List;

/** A table of schema {@code drip}: its rows are made when it is read. */
public record Figures(long id, String name, Schema schema) implements CatalogObject {
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

  /** What calls of endpoints took since the start, by role; times of the last thousand. */
  public static final Figures ENDPOINTS =
      new Figures(
          -21,
          "endpoints",
          new Schema(
              List.of(
                  column("name", Kind.VARCHAR),
                  column("role", Kind.VARCHAR),
                  column("calls", Kind.BIGINT),
                  column("errors", Kind.BIGINT),
                  column("p50_ms", Kind.DOUBLE),
                  column("p99_ms", Kind.DOUBLE))));

  /** Who there is, and what each may use at most; 0 is no bound of its own. */
  public static final Figures ROLES =
      new Figures(
          -22,
          "roles",
          new Schema(
              List.of(
                  column("name", Kind.VARCHAR),
                  column("shared", Kind.BOOLEAN),
                  column("tokens", Kind.BIGINT),
                  column("statement_timeout_ms", Kind.BIGINT),
                  column("max_rows", Kind.BIGINT),
                  column("max_memory_bytes", Kind.BIGINT),
                  column("max_body_bytes", Kind.BIGINT),
                  column("requests_per_second", Kind.BIGINT),
                  column("connections", Kind.BIGINT))));

  /** Who may do what to what. */
  public static final Figures GRANTS =
      new Figures(
          -23,
          "grants",
          new Schema(
              List.of(
                  column("role", Kind.VARCHAR),
                  column("privilege", Kind.VARCHAR),
                  column("schema", Kind.VARCHAR),
                  column("name", Kind.VARCHAR))));

  /** What roles prove themselves by. */
  public static final Figures TOKENS =
      new Figures(
          -24,
          "tokens",
          new Schema(
              List.of(
                  column("id", Kind.BIGINT),
                  column("role", Kind.VARCHAR),
                  column("name", Kind.VARCHAR),
                  column("state", Kind.VARCHAR),
                  column("made_at", Kind.TIMESTAMP),
                  column("made_by", Kind.VARCHAR),
                  column("expires_at", Kind.TIMESTAMP),
                  column("used_at", Kind.TIMESTAMP))));

  /** What was done, by whom. */
  public static final Figures JOURNAL =
      new Figures(
          -25,
          "journal",
          new Schema(
              List.of(
                  column("at", Kind.TIMESTAMP),
                  column("role", Kind.VARCHAR),
                  column("via", Kind.VARCHAR),
                  column("what", Kind.VARCHAR),
                  column("object", Kind.VARCHAR),
                  column("detail", Kind.VARCHAR),
                  column("times", Kind.BIGINT))));

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
          ENDPOINTS,
          ROLES,
          GRANTS,
          TOKENS,
          JOURNAL);

  /** The table of this name, or null. */
  public static Figures named(String name) {
    return ALL.stream().filter(f -> f.name().equalsIgnoreCase(name)).findFirst().orElse(null);
  }

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
