package dripledger.connectors.format;

import dripledger.engine.catalog.Origins;
import dripledger.engine.row.Column;
import dripledger.engine.row.Schema;
import java.io.IOException;
import java.io.StringReader;
import java.io.UncheckedIOException;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.Iterator;
import java.util.List;
import org.apache.commons.csv.CSVFormat;
import org.apache.commons.csv.CSVParser;
import org.apache.commons.csv.CSVRecord;

/**
 * CSV records (RFC 4180) to rows. Fields stand in the order of a header, or, in messages without
 * one, of the columns. An empty field is NULL.
 */
public final class CsvDecoder implements MessageDecoder {
  static final CSVFormat FORMAT = CSVFormat.RFC4180.builder().setIgnoreEmptyLines(true).get();

  private final Schema schema;
  private final DriftLog drift;
  private final int[] columns;
  private final List<String> names;

  /**
   * @param header the names of the fields in order, or null: the columns in order
   * @param origins a path of one name says how a column's field is called in the header
   */
  public CsvDecoder(Schema schema, Origins origins, List<String> header, DriftLog drift) {
    this.schema = schema;
    this.drift = drift;
    if (header == null) {
      List<String> all = new ArrayList<>();
      for (int i = 0; i < schema.size(); i++) {
        if (!origins.meta().containsKey(i)) {
          all.add(origins.path(i, schema).get(0));
        }
      }
      names = all;
    } else {
      names = header;
    }
    FieldTree fields = FieldTree.of(schema, origins);
    columns = new int[names.size()];
    for (int i = 0; i < columns.length; i++) {
      columns[i] = fields.column(names.get(i).strip());
    }
  }

  /**
   * Sees whether any field of the header is a column.
   *
   * @throws FormatException if none is: no line under it could say anything
   */
  public void checkHeader() {
    for (int column : columns) {
      if (column >= 0) {
        return;
      }
    }
    throw new FormatException(
        "the header ("
            + String.join(", ", names)
            + ") names none of the columns: "
            + String.join(", ", schema.columns().stream().map(Column::name).toList()));
  }

  @Override
  public void decode(byte[] message, int from, int length, RowBuilder into) {
    String text = new String(message, from, length, StandardCharsets.UTF_8);
    try (CSVParser parser =
        CSVParser.builder().setReader(new StringReader(text)).setFormat(FORMAT).get()) {
      Iterator<CSVRecord> records = parser.iterator();
      if (!records.hasNext()) {
        throw new FormatException("an empty message");
      }
      decode(records.next().toList(), into);
      if (records.hasNext()) {
        throw new FormatException("more than one CSV record in the message");
      }
    } catch (IOException | UncheckedIOException | IllegalStateException e) {
      throw new FormatException("broken CSV: " + e.getMessage());
    }
  }

  /** Sets the columns of a record's fields. */
  public void decode(List<String> record, RowBuilder into) {
    if (record.size() != columns.length) {
      throw new FormatException(
          "the header names " + columns.length + " columns, this line has " + record.size());
    }
    for (int i = 0; i < columns.length; i++) {
      String text = record.get(i);
      if (columns[i] >= 0 && !text.isEmpty()) {
        set(into, columns[i], text);
      } else if (columns[i] < 0 && drift != null && !drift.known(names.get(i))) {
        drift.newField(names.get(i), "VARCHAR", text);
      }
    }
  }

  private void set(RowBuilder into, int index, String text) {
    Column column = schema.column(index);
    try {
      into.setParsed(index, text);
    } catch (FormatException e) {
      throw e;
    } catch (RuntimeException e) {
      if (drift != null) {
        drift.misfit(column.name(), "VARCHAR", text);
      }
      throw new FormatException(
          "column " + column.name() + ": \"" + text + "\" is not of type " + column.type().sql());
    }
  }
}
