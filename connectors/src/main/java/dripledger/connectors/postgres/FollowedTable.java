package dripledger.connectors.postgres;

import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.RowBuilder;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.source.KeyedRows;
import dripledger.engine.source.Reject;
import dripledger.engine.source.SpooledRows;
import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Objects;
import org.postgresql.replication.LogSequenceNumber;

/**
 * One table of a feed: turns its tuples into operations, and keeps them back while the table is
 * being loaded. Used by the feed's thread; {@link #load} state is guarded by the feed.
 */
final class FollowedTable {
  private static final long KEPT_BYTES = 8L << 20; // in memory

  final CatalogObject.Table table;
  final String schemaName;
  final String tableName;

  /** Where the table's loaded rows stand; changes before it are in them. 0 until it is known. */
  long loadedAt;

  /** Whether its changes go straight on; else they are kept back. */
  boolean live;

  boolean stopped;

  /** What it was made of when that was last looked at. */
  Partitions partitions = Partitions.NONE;

  Runnable attach;
  final KeptBack keptBack;

  private final Schema schema;
  private final RowLayout operations;
  private final RowBuilder row;
  private final RowBuilder old;
  private final byte[] keep;
  private final DriftLog drift;
  private int[] columns; // of the relation's columns, ours or −1
  private Page page;
  private int dated; // rows of it
  private SpooledRows spooled; // what was gathered before the page
  private List<Reject> rejects = new ArrayList<>();

  FollowedTable(CatalogObject.Table table, DriftLog drift, boolean live) {
    this.table = table;
    this.drift = drift;
    this.live = live;
    String qualified = table.source().option("table");
    int dot = qualified.indexOf('.');
    schemaName = dot < 0 ? "public" : qualified.substring(0, dot);
    tableName = qualified.substring(dot + 1);
    schema = table.schema();
    operations = new RowLayout(KeyedRows.schema(schema));
    row = new RowBuilder(schema);
    old = new RowBuilder(schema);
    keep = new byte[schema.size()];
    page = new Page(operations);
    keptBack = new KeptBack(operations, KEPT_BYTES);
  }

  /** The builder of loaded rows. */
  RowBuilder builder() {
    return row;
  }

  /**
   * Takes in how the source describes the table.
   *
   * @return why it can no longer be followed, or null
   */
  String describe(String[] names, int[] types, int[] modifiers) {
    columns = new int[names.length];
    boolean[] found = new boolean[schema.size()];
    for (int i = 0; i < names.length; i++) {
      columns[i] = schema.indexOf(names[i]);
      ColumnType type = PostgresTypes.type(types[i], modifiers[i]);
      if (columns[i] < 0) {
        if (drift != null && !drift.known(names[i])) {
          drift.newField(names[i], type.sql(), "a column of the source");
        }
        continue;
      }
      Column declared = schema.column(columns[i]);
      if (!PostgresTypes.fits(type, declared.type())) {
        return "column \""
            + names[i]
            + "\" is "
            + type.sql()
            + " at the source now and no longer fits "
            + declared.type().sql();
      }
      found[columns[i]] = true;
    }
    for (int c = 0; c < found.length; c++) {
      if (!found[c] && !table.origins().meta().containsKey(c)) {
        return "column \"" + schema.column(c).name() + "\" is no longer there at the source";
      }
    }
    return null;
  }

  /** Keeps back what was gathered of a transaction. */
  void keepBack(long commitLsn) {
    keptBack.add(new KeptBack.Transaction(commitLsn, takePage(), takeRejects(), takeSpooled()));
  }

  /** Takes over how the source described the table to the one this replaces. */
  void describedAs(FollowedTable before) {
    columns = before.columns;
  }

  long pendingBytes() {
    return page.byteSize();
  }

  /** What of it waits on disk, in bytes. */
  long spooledBytes() {
    return spooled == null ? 0 : spooled.bytes();
  }

  boolean pending() {
    return !page.isEmpty() || !rejects.isEmpty() || spooled != null;
  }

  /** Puts what is gathered aside, onto disk. */
  void spool(Path directory) {
    if (!page.isEmpty()) {
      if (spooled == null) {
        spooled = new SpooledRows(operations, directory);
      }
      spooled.add(page);
      page = new Page(operations);
      dated = 0;
    }
  }

  /** What was put aside since the last call, or null; comes before the page. */
  SpooledRows takeSpooled() {
    SpooledRows taken = spooled;
    spooled = null;
    return taken;
  }

  /** Forgets what was gathered: it will be sent again. */
  void discard() {
    takePage();
    takeRejects();
    SpooledRows gone = takeSpooled();
    if (gone != null) {
      gone.release();
    }
  }

  /** Says when what was gathered since the last call was committed. */
  void committed(long micros) {
    if (spooled != null) {
      spooled.madeAt(micros);
    }
    while (dated < page.size()) {
      page.mark(dated++, micros);
    }
  }

  /** The operations gathered since the last call. */
  Page takePage() {
    Page taken = page;
    page = new Page(operations);
    dated = 0;
    return taken;
  }

  List<Reject> takeRejects() {
    if (rejects.isEmpty()) {
      return List.of();
    }
    List<Reject> taken = rejects;
    rejects = new ArrayList<>();
    return taken;
  }

  /** Reads a tuple; answers whether any value was left out because it has not changed. */
  private boolean read(PgOutput.Tuple tuple, RowBuilder into) {
    into.clear();
    Arrays.fill(keep, (byte) 0);
    boolean[] kept = new boolean[1];
    tuple.visit(
        (index, kind, bytes, from, length) -> {
          int column = index < columns.length ? columns[index] : -1;
          if (column < 0) {
            return;
          }
          if (kind == 't') {
            PostgresTypes.set(into, column, bytes, from, length);
          } else if (kind == 'u') {
            keep[column] = 1;
            kept[0] = true;
          }
        });
    return kept[0];
  }

  void insert(PgOutput.Tuple tuple, long lsn) {
    if (columns != null && !stopped) {
      put(tuple, KeyedRows.PUT, lsn);
    }
  }

  void update(char oldKind, PgOutput.Tuple before, PgOutput.Tuple after, long lsn) {
    if (columns == null || stopped) {
      return;
    }
    boolean moved = false;
    if (oldKind != 0) {
      read(before, old);
      try {
        read(after, row);
        moved = !sameKey();
      } catch (FormatException e) {
        moved = true; // the old row goes in any case
      }
      if (moved) {
        deleteOld();
      }
    }
    put(after, moved ? KeyedRows.PUT_MOVED : KeyedRows.PUT, lsn);
  }

  private boolean sameKey() {
    Page two = new Page(operations);
    write(two, old, KeyedRows.DELETE);
    write(two, row, KeyedRows.DELETE);
    for (int k : table.primaryKey()) {
      Object a = BoxedRows.readColumn(operations, two.bytes(), two.start(0), k);
      Object b = BoxedRows.readColumn(operations, two.bytes(), two.start(1), k);
      if (!Objects.deepEquals(a, b)) {
        return false;
      }
    }
    return true;
  }

  private void deleteOld() {
    write(page, old, KeyedRows.DELETE);
  }

  private void write(Page into, RowBuilder from, int what) {
    RowWriter writer = into.begin();
    from.write(writer, true);
    writer.setLong(KeyedRows.doColumn(schema), what);
    writer.setNull(KeyedRows.keepColumn(schema));
    into.commit(1);
  }

  private void put(PgOutput.Tuple tuple, int what, long lsn) {
    int rows = page.size();
    try {
      boolean kept = read(tuple, row);
      setMeta();
      if (!kept) {
        checkComplete();
      }
      RowWriter writer = page.begin();
      row.write(writer, true);
      writer.setLong(KeyedRows.doColumn(schema), what);
      if (kept) {
        writer.setBytes(KeyedRows.keepColumn(schema), keep, 0, keep.length);
      } else {
        writer.setNull(KeyedRows.keepColumn(schema));
      }
      page.commit(1);
    } catch (FormatException | RowWriter.RowTooLargeException e) {
      page.truncate(rows);
      reject(tuple, e.getMessage(), lsn);
    }
  }

  /** Sets what the transport knows. */
  void setMeta() {
    table
        .origins()
        .meta()
        .forEach(
            (column, meta) -> {
              if (meta == CatalogObject.Meta.ARRIVED_AT) {
                row.setLong(column, System.currentTimeMillis() * 1000);
              }
            });
  }

  private void checkComplete() {
    for (int c = 0; c < schema.size(); c++) {
      if (!schema.type(c).nullable() && !row.isSet(c)) {
        throw new FormatException(
            "column " + schema.column(c).name() + " is NOT NULL and the value is missing");
      }
    }
  }

  /** A row that cannot be kept is not there: an older form of it would be wrong. */
  private void reject(PgOutput.Tuple tuple, String reason, long lsn) {
    StringBuilder raw = new StringBuilder();
    old.clear();
    tuple.visit(
        (index, kind, bytes, from, length) -> {
          raw.append(index == 0 ? "" : "\t");
          raw.append(kind == 't' ? new String(bytes, from, length, StandardCharsets.UTF_8) : "");
          int column = index < columns.length ? columns[index] : -1;
          boolean key = Arrays.stream(table.primaryKey()).anyMatch(k -> k == column);
          if (key && kind == 't') {
            try {
              PostgresTypes.set(old, column, bytes, from, length);
            } catch (FormatException e) {
              // then there is no row to take out either
            }
          }
        });
    if (Arrays.stream(table.primaryKey()).allMatch(old::isSet)) {
      deleteOld();
    }
    reject(reason, raw.toString(), "lsn " + LogSequenceNumber.valueOf(lsn).asString());
  }

  void reject(String reason, String raw, String place) {
    rejects.add(
        new Reject(
            table.id(),
            LocalDateTime.now(ZoneOffset.UTC),
            reason,
            null,
            raw.getBytes(StandardCharsets.UTF_8),
            schemaName + "." + tableName + " at " + place));
  }

  void delete(PgOutput.Tuple tuple) {
    if (columns != null && !stopped) {
      read(tuple, old);
      deleteOld();
    }
  }

  void clear() {
    if (!stopped) {
      row.clear();
      write(page, row, KeyedRows.CLEAR);
    }
  }
}
