package dripledger.connectors.format;

import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.source.Outgoing;
import java.io.IOException;
import java.io.StringWriter;
import java.io.UncheckedIOException;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;
import org.apache.commons.csv.CSVFormat;
import org.apache.commons.csv.CSVPrinter;

/**
 * A delivery's changes as messages: the row as it is, or for {@code changes} what was and what is.
 * The key is the key column's text, or a JSON object of several; so a table of ours reads it back.
 * One thread.
 */
public final class RowMessages {
  private static final List<String> MESSAGES = List.of("json", "csv", "avro");
  private static final List<String> FILES = List.of("json", "csv", "avro", "parquet");

  private final Sink sink;
  private final String format;
  private final boolean ofChanges;
  private final List<Column> recordColumns;
  private final AvroMessages avro; // null where no message is Avro
  private final List<Column> columns;
  private final List<Column> keyColumns = new ArrayList<>();
  private final boolean csv;
  private final JsonRows.Messages json = new JsonRows.Messages();

  /** Refuses formats that there are not. */
  public RowMessages(Sink sink) {
    this(sink, RegistryLogin.NONE);
  }

  /**
   * As above.
   *
   * @param login as who the schema registry is asked
   */
  public RowMessages(Sink sink, RegistryLogin login) {
    this.sink = sink;
    columns = sink.schema().columns();
    format = sink.target().format() == null ? "json" : sink.target().format();
    boolean inFile = sink.target().option("topic") == null;
    List<String> formats = inFile ? FILES : MESSAGES;
    if (!formats.contains(format)) {
      throw new EngineException(
          Code.INVALID,
          "there is no format \"" + format + "\" to deliver in",
          "there are " + String.join(", ", formats));
    }
    csv = format.equals("csv");
    ofChanges = sink.rows() == Sink.Rows.CHANGES || inFile && sink.rows() != Sink.Rows.APPEND;
    if (csv && ofChanges) {
      throw new EngineException(
          Code.INVALID, "what was and what is do not fit a line of CSV", "write FORMAT json");
    }
    recordColumns = ofChanges ? ChangeRecords.columns(columns) : columns;
    avro =
        format.equals("avro") && !inFile
            ? new AvroMessages(name(), recordColumns, sink.target(), login)
            : null;
    if (format.equals("avro") && inFile) {
      AvroRows.schema(name(), recordColumns); // refuses names that cannot be
    }
    for (int i = 0; sink.key() != null && i < sink.key().length; i++) {
      keyColumns.add(columns.get(sink.key()[i]));
    }
  }

  /** The key of a change, or null if the delivery has none. */
  public byte[] key(Outgoing.Change change) {
    if (keyColumns.isEmpty()) {
      return null;
    }
    Object[] row = change.after() != null ? change.after() : change.before();
    Object[] key = new Object[keyColumns.size()];
    for (int i = 0; i < key.length; i++) {
      key[i] = row[sink.key()[i]];
    }
    if (key.length == 1 && key[0] != null && keyColumns.get(0).type().kind() != Kind.ROW) {
      return PlainText.of(key[0]).getBytes(StandardCharsets.UTF_8);
    }
    return json.message(keyColumns, key);
  }

  /** The message that says a change, or null if it is that there is no row any more. */
  public byte[] value(Outgoing.Change change, long epoch) {
    if (change.after() == null && !ofChanges) {
      return null;
    }
    if (avro != null) {
      return avro.message(record(change, epoch));
    }
    if (ofChanges) {
      return json.change(columns, change, epoch);
    }
    return csv ? line(change.after()) : json.message(columns, change.after());
  }

  /** Makes known, where others ask for it, how the messages are to be read. */
  public void register() {
    if (avro != null) {
      avro.register();
    }
  }

  /** The message as text, for people. */
  public String text(Outgoing.Change change) {
    if (avro != null && (change.after() != null || ofChanges)) {
      return avro.record(record(change, 0)).toString();
    }
    byte[] value = value(change, 0);
    return value == null ? "(none)" : new String(value, StandardCharsets.UTF_8);
  }

  /** The schema of the messages as text, or null if they have none. */
  public String schema() {
    return avro == null ? null : avro.schema().toString();
  }

  /** What the records are called, where records have names: it stays when another writes there. */
  String name() {
    String place = sink.target().option("topic", sink.target().option("files", sink.name()));
    return place.replaceAll("[^A-Za-z0-9_]", "_").replaceAll("^(?=[0-9])", "_");
  }

  /** The name of the format. */
  public String format() {
    return format;
  }

  /** The columns of what says a change. */
  List<Column> recordColumns() {
    return recordColumns;
  }

  /** What says a change, as values of its columns. */
  Object[] record(Outgoing.Change change, long epoch) {
    return ofChanges ? ChangeRecords.record(change, epoch) : change.after();
  }

  /** Whether messages are lines of CSV. */
  public boolean isCsv() {
    return csv;
  }

  /** The names of the columns, as a line of CSV. */
  public byte[] header() {
    return line(columns.stream().map(Column::name).toArray());
  }

  /** The line of a file that says a change: a row that went says so. */
  public byte[] line(Outgoing.Change change, long epoch) {
    return sink.rows() == Sink.Rows.APPEND
        ? value(change, epoch)
        : json.change(columns, change, epoch);
  }

  private static byte[] line(Object[] row) {
    StringWriter out = new StringWriter();
    try (CSVPrinter printer = new CSVPrinter(out, CSVFormat.RFC4180)) {
      for (Object value : row) {
        printer.print(value == null ? null : PlainText.of(value));
      }
    } catch (IOException e) {
      throw new UncheckedIOException(e); // a string has no input or output to fail
    }
    return out.toString().stripTrailing().getBytes(StandardCharsets.UTF_8);
  }
}
