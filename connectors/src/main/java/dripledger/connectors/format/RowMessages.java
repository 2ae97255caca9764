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
import java.util.Set;
import org.apache.commons.csv.CSVFormat;
import org.apache.commons.csv.CSVPrinter;

/**
 * A delivery's changes as messages: the row as it is, or for {@code changes} what was and what is.
 * The key is the key column's text, or a JSON object of several; so a table of ours reads it back.
 * Stateless.
 */
public final class RowMessages {
  private static final Set<String> FORMATS = Set.of("json", "csv");

  private final Sink sink;
  private final List<Column> columns;
  private final List<Column> keyColumns = new ArrayList<>();
  private final boolean csv;

  /** Refuses formats that there are not. */
  public RowMessages(Sink sink) {
    this.sink = sink;
    columns = sink.schema().columns();
    String format = sink.target().format() == null ? "json" : sink.target().format();
    if (!FORMATS.contains(format)) {
      throw new EngineException(
          Code.INVALID, "a delivery has no format \"" + format + "\"", "there are json and csv");
    }
    csv = format.equals("csv");
    boolean inFile = sink.target().option("topic") == null;
    if (csv && (sink.rows() == Sink.Rows.CHANGES || inFile && sink.rows() != Sink.Rows.APPEND)) {
      throw new EngineException(
          Code.INVALID, "what was and what is do not fit a line of CSV", "write FORMAT json");
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
    return JsonRows.message(keyColumns, key);
  }

  /** The message that says a change, or null if it is that there is no row any more. */
  public byte[] value(Outgoing.Change change, long epoch) {
    if (sink.rows() == Sink.Rows.CHANGES) {
      return JsonRows.change(columns, change, epoch);
    }
    if (change.after() == null) {
      return null;
    }
    return csv ? line(change.after()) : JsonRows.message(columns, change.after());
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
        : JsonRows.change(columns, change, epoch);
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
