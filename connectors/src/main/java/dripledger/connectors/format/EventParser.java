package dripledger.connectors.format;

import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import java.io.BufferedInputStream;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.InputStream;
import java.io.InputStreamReader;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.function.Consumer;
import org.apache.commons.csv.CSVFormat;
import org.apache.commons.csv.CSVParser;
import org.apache.commons.csv.CSVRecord;
import tools.jackson.core.JacksonException;
import tools.jackson.core.JsonParser;
import tools.jackson.core.JsonToken;
import tools.jackson.core.ObjectReadContext;
import tools.jackson.core.json.JsonFactory;

/**
 * Reads a body of events into pages of a stream's rows. Broken records are rejected one by one with
 * their line and reason; the rest is taken. Fields that are not columns are passed over. One use,
 * one thread.
 */
public final class EventParser {
  /** The longest line or record, in bytes. */
  public static final int MAX_RECORD_BYTES = RowWriter.MAX_ROW_BYTES;

  private static final int PAGE_ROWS = 4096;

  /** How a body is written. */
  public enum Format {
    NDJSON,
    JSON_ARRAY,
    CSV
  }

  private final Schema schema;
  private final Map<Integer, Object> filled;
  private final Consumer<Page> pages;
  private final Consumer<Reject> rejects;
  private final JsonFactory json = new JsonFactory();
  private final RowLayout layout;
  private Page page;

  /**
   * @param filled columns that get a fixed value, such as the time of arrival
   * @param pages given full pages, which it may keep
   */
  public EventParser(
      Schema schema, Map<Integer, Object> filled, Consumer<Page> pages, Consumer<Reject> rejects) {
    this.schema = schema;
    this.filled = filled;
    this.pages = pages;
    this.rejects = rejects;
    layout = new RowLayout(schema);
    page = new Page(layout);
  }

  /** Reads the whole body. */
  public void parse(InputStream body, Format format) throws IOException {
    switch (format) {
      case NDJSON -> lines(new BufferedInputStream(body, 1 << 16));
      case JSON_ARRAY -> array(body);
      case CSV -> csv(body);
    }
    if (!page.isEmpty()) {
      pages.accept(page);
    }
  }

  private void take(Object[] values, long line, String raw) {
    filled.forEach((column, value) -> values[column] = value);
    RowWriter writer = page.begin();
    try {
      BoxedRows.write(writer, values);
      page.commit(1);
    } catch (IllegalArgumentException | RowWriter.RowTooLargeException e) {
      page.abort();
      rejects.accept(new Reject(line, String.valueOf(e.getMessage()), raw));
      return;
    }
    if (page.size() >= PAGE_ROWS) {
      pages.accept(page);
      page = new Page(layout);
    }
  }

  private void lines(InputStream in) throws IOException {
    ByteArrayOutputStream line = new ByteArrayOutputStream(512);
    long number = 1;
    boolean tooLong = false;
    for (int b; (b = in.read()) != -1; ) {
      if (b != '\n') {
        if (line.size() < MAX_RECORD_BYTES) {
          line.write(b);
        } else {
          tooLong = true;
        }
        continue;
      }
      line(line, number++, tooLong);
      line.reset();
      tooLong = false;
    }
    line(line, number, tooLong);
  }

  private void line(ByteArrayOutputStream line, long number, boolean tooLong) {
    if (line.size() == 0) {
      return;
    }
    byte[] bytes = line.toByteArray();
    String raw = new String(bytes, 0, Math.min(bytes.length, 1000), StandardCharsets.UTF_8);
    if (tooLong) {
      rejects.accept(
          new Reject(number, "the line is longer than " + MAX_RECORD_BYTES + " bytes", raw));
      return;
    }
    if (raw.isBlank()) {
      return;
    }
    Object[] values;
    try (JsonParser parser = json.createParser(ObjectReadContext.empty(), bytes)) {
      if (parser.nextToken() != JsonToken.START_OBJECT) {
        throw new FormatException("not a JSON object");
      }
      values = JsonValues.readObject(parser, json, schema);
      if (parser.nextToken() != null) {
        throw new FormatException("more than one JSON value in the line");
      }
    } catch (FormatException e) {
      rejects.accept(new Reject(number, e.getMessage(), raw));
      return;
    } catch (JacksonException e) {
      rejects.accept(new Reject(number, "broken JSON: " + reason(e), raw));
      return;
    }
    take(values, number, raw);
  }

  private static String reason(JacksonException e) {
    String where = e.getLocation() == null ? "" : " at character " + e.getLocation().getColumnNr();
    return e.getOriginalMessage().lines().findFirst().orElse("").split(" \\(for ")[0] + where;
  }

  private void array(InputStream body) throws IOException {
    long element = 0;
    try (JsonParser parser = json.createParser(ObjectReadContext.empty(), body)) {
      if (parser.nextToken() != JsonToken.START_ARRAY) {
        rejects.accept(new Reject(1, "not a JSON array", ""));
        return;
      }
      while (parser.nextToken() != JsonToken.END_ARRAY) {
        element++;
        if (parser.currentToken() != JsonToken.START_OBJECT) {
          parser.skipChildren();
          rejects.accept(new Reject(element, "not a JSON object", ""));
          continue;
        }
        Object[] values;
        try {
          values = JsonValues.readObject(parser, json, schema);
        } catch (FormatException e) {
          rejects.accept(new Reject(element, e.getMessage(), ""));
          continue;
        }
        take(values, element, "");
      }
    } catch (JacksonException e) {
      rejects.accept(
          new Reject(
              element + 1, "broken JSON: " + reason(e) + "; nothing behind it can be read", ""));
    }
  }

  private void csv(InputStream body) throws IOException {
    CSVFormat format = CSVFormat.RFC4180.builder().setIgnoreEmptyLines(true).get();
    int[] columns = null;
    try (CSVParser parser =
        CSVParser.builder()
            .setReader(new InputStreamReader(body, StandardCharsets.UTF_8))
            .setFormat(format)
            .get()) {
      for (CSVRecord record : parser) {
        if (columns == null) {
          columns = header(record);
          continue;
        }
        csvRecord(record, columns);
      }
    } catch (java.io.UncheckedIOException | IllegalStateException e) {
      rejects.accept(
          new Reject(0, "broken CSV: " + e.getMessage() + "; nothing behind it can be read", ""));
    }
  }

  private int[] header(CSVRecord record) {
    int[] columns = new int[record.size()];
    boolean any = false;
    for (int i = 0; i < columns.length; i++) {
      columns[i] = schema.indexOf(record.get(i).strip());
      any |= columns[i] >= 0;
    }
    if (!any) {
      rejects.accept(
          new Reject(
              1,
              "the first line must name columns of the stream: "
                  + String.join(", ", schema.columns().stream().map(Column::name).toList()),
              String.join(",", record.toList())));
    }
    return columns;
  }

  private void csvRecord(CSVRecord record, int[] columns) {
    String raw = String.join(",", record.toList());
    long line = record.getRecordNumber();
    Object[] values = new Object[schema.size()];
    List<String> problems = new ArrayList<>();
    if (record.size() != columns.length) {
      problems.add(
          "the header names " + columns.length + " columns, this line has " + record.size());
    }
    for (int i = 0; problems.isEmpty() && i < columns.length; i++) {
      String text = record.get(i);
      if (columns[i] < 0 || text.isEmpty()) {
        continue;
      }
      Column column = schema.column(columns[i]);
      try {
        values[columns[i]] = Casts.parse(text, column.type());
      } catch (RuntimeException e) {
        problems.add(
            "column " + column.name() + ": \"" + text + "\" is not of type " + column.type().sql());
      }
    }
    if (problems.isEmpty()) {
      take(values, line, raw);
    } else {
      rejects.accept(new Reject(line, problems.get(0), raw));
    }
  }
}
