package dripledger.connectors.format;

import dripledger.engine.catalog.Origins;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import java.io.IOException;
import java.io.InputStream;
import java.util.Map;
import java.util.function.Consumer;

/**
 * Reads a body of many events into pages of a stream's rows. A record that cannot be read is handed
 * to the rejects with its place and reason, and the rest goes on. Used by one thread.
 */
public final class EventParser {
  /** The longest line or record, in bytes. */
  public static final int MAX_RECORD_BYTES = RowWriter.MAX_ROW_BYTES;

  private static final int PAGE_ROWS = 4096;
  private static final int PAGE_BYTES = 4 << 20;

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

  /**
   * Reads the whole body.
   *
   * @throws FormatException if nothing at all can be read of it; a record that cannot is a reject
   */
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
    if (page.size() >= PAGE_ROWS || page.byteSize() >= PAGE_BYTES) {
      pages.accept(page);
      page = new Page(layout);
    }
  }

  private void lines(InputStream body) throws IOException {
    TextLines lines = new TextLines(bytes(body), MAX_RECORD_BYTES, true, false);
    while (lines.next()) {
      if (!isBlank(lines)) {
        try {
          lines.refuseTooLong();
          builder.clear();
          json.decode(lines.bytes(), lines.from(), lines.length(), builder);
          take();
        } catch (FormatException e) {
          rejects.accept(new BadRecord(lines.number(), e.getMessage(), lines.copy()));
        }
      }
    }
  }

  private static TextLines.Bytes bytes(InputStream body) {
    return (place, into, at, room) -> body.read(into, at, room);
  }

  private static boolean isBlank(TextLines line) {
    for (int i = line.from(); i < line.from() + line.length(); i++) {
      if (line.bytes()[i] > ' ' || line.bytes()[i] < 0) {
        return false;
      }
    }
    return true;
  }

  private void array(InputStream body) throws IOException {
    JsonElements elements = new JsonElements(body, MAX_RECORD_BYTES);
    if (!elements.begin()) {
      throw new FormatException("not a JSON array");
    }
    for (long element = 1; elements.next(); element++) {
      try {
        if (elements.broken() != null) {
          throw new FormatException("broken JSON: " + elements.broken());
        }
        builder.clear();
        json.decode(elements.bytes(), elements.from(), elements.length(), builder);
        take();
      } catch (FormatException e) {
        rejects.accept(new BadRecord(element, e.getMessage(), elements.copy()));
      }
    }
  }

  private void csv(InputStream body) throws IOException {
    TextLines lines = new TextLines(bytes(body), MAX_RECORD_BYTES, true, true);
    CsvText text = new CsvText(lines, 0, Long.MAX_VALUE, true);
    if (text.header() == null) {
      throw new FormatException("the header is missing: its first line names the columns");
    }
    CsvDecoder decoder = new CsvDecoder(schema, origins, text.header(), drift);
    decoder.checkHeader();
    while (text.next()) {
      try {
        builder.clear();
        decoder.decode(text.fields(), builder);
        take();
      } catch (FormatException e) {
        rejects.accept(new BadRecord(text.number(), e.getMessage(), text.raw()));
      }
    }
  }
}
