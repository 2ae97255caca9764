package dripledger.connectors.format;

import dripledger.engine.catalog.Origins;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import java.io.IOException;
import java.io.InputStream;
import java.io.InputStreamReader;
import java.io.UncheckedIOException;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;
import java.util.Map;
import java.util.function.Consumer;
import org.apache.commons.csv.CSVParser;
import org.apache.commons.csv.CSVRecord;
import tools.jackson.core.JacksonException;
import tools.jackson.core.JsonParser;
import tools.jackson.core.JsonToken;
import tools.jackson.core.ObjectReadContext;
import tools.jackson.core.json.JsonFactory;

/**
 * Reads a body of many events into pages of a stream's rows. A record that cannot be read is handed
 * to the rejects with its place and reason, and the rest goes on. Used by one thread.
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
  private final Origins origins;
  private final Map<Integer, Long> filled;
  private final Consumer<Page> pages;
  private final Consumer<BadRecord> rejects;
  private final JsonDecoder json;
  private final RowBuilder builder;
  private final DriftLog drift;
  private final RowLayout layout;
  private Page page;

  /**
   * @param origins where in an event the columns are
   * @param filled the values of columns that are not fields, such as the time of arrival
   * @param pages given full pages, which it may keep
   * @param drift told of what is not declared; or null
   */
  public EventParser(
      Schema schema,
      Origins origins,
      Map<Integer, Long> filled,
      Consumer<Page> pages,
      Consumer<BadRecord> rejects,
      DriftLog drift) {
    this.schema = schema;
    this.origins = origins;
    this.filled = filled;
    this.pages = pages;
    this.rejects = rejects;
    this.drift = drift;
    layout = new RowLayout(schema);
    builder = new RowBuilder(schema);
    json = new JsonDecoder(schema, origins, drift);
    page = new Page(layout);
  }

  /** Reads the whole body. */
  public void parse(InputStream body, Format format) throws IOException {
    switch (format) {
      case NDJSON -> lines(body);
      case JSON_ARRAY -> array(body);
      case CSV -> csv(body);
    }
    if (!page.isEmpty()) {
      pages.accept(page);
    }
  }

  /** Appends the row built. */
  private void take() {
    filled.forEach(builder::setLong);
    try {
      builder.write(page.begin(), false);
      page.commit(1);
    } catch (FormatException | RowWriter.RowTooLargeException e) {
      page.abort();
      throw new FormatException(String.valueOf(e.getMessage()));
    }
    if (page.size() >= PAGE_ROWS) {
      pages.accept(page);
      page = new Page(layout);
    }
  }

  private void lines(InputStream in) throws IOException {
    byte[] buffer = new byte[1 << 16];
    int used = 0;
    long number = 1;
    boolean tooLong = false;
    while (true) {
      int read = in.read(buffer, used, buffer.length - used);
      int end = used + Math.max(0, read);
      int start = 0;
      for (int i = used; i < end; i++) {
        if (buffer[i] == '\n') {
          line(buffer, start, i - start, number++, tooLong);
          tooLong = false;
          start = i + 1;
        }
      }
      used = end - start;
      if (read < 0) {
        line(buffer, start, used, number, tooLong);
        return;
      }
      if (used > MAX_RECORD_BYTES) {
        tooLong = true;
        used = 1000; // enough to be shown; the rest of the line is passed over
      }
      if (start > 0) {
        System.arraycopy(buffer, start, buffer, 0, used);
      }
      if (used == buffer.length) {
        buffer = Arrays.copyOf(buffer, buffer.length * 2);
      }
    }
  }

  private void line(byte[] bytes, int from, int length, long number, boolean tooLong) {
    boolean blank = true;
    for (int i = from; i < from + length && blank; i++) {
      blank = bytes[i] <= ' ' && bytes[i] >= 0;
    }
    if (blank) {
      return;
    }
    try {
      if (tooLong) {
        throw new FormatException("the line is longer than " + MAX_RECORD_BYTES + " bytes");
      }
      builder.clear();
      json.decode(bytes, from, length, builder);
      take();
    } catch (FormatException e) {
      byte[] raw = Arrays.copyOfRange(bytes, from, from + length);
      rejects.accept(new BadRecord(number, e.getMessage(), raw));
    }
  }

  private void array(InputStream body) throws IOException {
    long element = 0;
    try (JsonParser parser = new JsonFactory().createParser(ObjectReadContext.empty(), body)) {
      if (parser.nextToken() != JsonToken.START_ARRAY) {
        rejects.accept(new BadRecord(1, "not a JSON array", new byte[0]));
        return;
      }
      while (parser.nextToken() != JsonToken.END_ARRAY) {
        element++;
        try {
          if (parser.currentToken() != JsonToken.START_OBJECT) {
            parser.skipChildren();
            throw new FormatException("not a JSON object");
          }
          builder.clear();
          json.readObject(parser, builder);
          take();
        } catch (FormatException e) {
          rejects.accept(new BadRecord(element, e.getMessage(), new byte[0]));
        }
      }
    } catch (JacksonException e) {
      rejects.accept(
          new BadRecord(
              element + 1,
              "broken JSON: " + JsonDecoder.reason(e) + "; nothing behind it can be read",
              new byte[0]));
    }
  }

  private void csv(InputStream body) throws IOException {
    CsvDecoder decoder = null;
    try (CSVParser parser =
        CSVParser.builder()
            .setReader(new InputStreamReader(body, StandardCharsets.UTF_8))
            .setFormat(CsvDecoder.FORMAT)
            .get()) {
      for (CSVRecord record : parser) {
        if (decoder == null) {
          decoder = new CsvDecoder(schema, origins, record.toList(), drift);
          decoder.checkHeader();
          continue;
        }
        try {
          builder.clear();
          decoder.decode(record, builder);
          take();
        } catch (FormatException e) {
          rejects.accept(bad(record, e.getMessage()));
        }
      }
    } catch (UncheckedIOException | IllegalStateException e) {
      rejects.accept(
          new BadRecord(
              0, "broken CSV: " + e.getMessage() + "; nothing behind it can be read", new byte[0]));
    }
  }

  private static BadRecord bad(CSVRecord record, String reason) {
    return new BadRecord(
        record.getRecordNumber(),
        reason,
        String.join(",", record.toList()).getBytes(StandardCharsets.UTF_8));
  }
}
