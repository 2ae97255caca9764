package dripledger.engine.source;

import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import java.nio.charset.StandardCharsets;

/**
 * The messages that the rows of a page were read from, one for each, as they are kept with them so
 * that a column that is added later can be read of them too. A message that is too large to be kept
 * is all NULL.
 */
public final class KeptMessages {
  private static final int KEY = 0;
  private static final int VALUE = 1;
  private static final int POSITION = 2;
  private static final int MILLIS = 3;
  private static final int HEADERS = 4;

  /** How they are kept. */
  public static final RowLayout LAYOUT =
      new RowLayout(
          new Schema(
              java.util.List.of(
                  new Column("key", ColumnType.of(Kind.VARBINARY)),
                  new Column("value", ColumnType.of(Kind.VARBINARY)),
                  new Column("position", ColumnType.of(Kind.BIGINT)),
                  new Column("millis", ColumnType.of(Kind.BIGINT)),
                  new Column("headers", ColumnType.varchar(-1)))));

  private KeptMessages() {}

  /**
   * Adds a message.
   *
   * @param key may be null
   * @param value the bytes from a place on
   * @param headers as a JSON object, or null if there are none
   */
  public static void add(
      Page page,
      byte[] key,
      byte[] value,
      int from,
      int length,
      long position,
      long millis,
      String headers) {
    try {
      RowWriter row = page.begin();
      if (key == null) {
        row.setNull(KEY);
      } else {
        row.setBytes(KEY, key, 0, key.length);
      }
      row.setBytes(VALUE, value, from, length);
      row.setLong(POSITION, position);
      row.setLong(MILLIS, millis);
      if (headers == null) {
        row.setNull(HEADERS);
      } else {
        byte[] text = headers.getBytes(StandardCharsets.UTF_8);
        row.setBytes(HEADERS, text, 0, text.length);
      }
      page.commit(1);
    } catch (RowWriter.RowTooLargeException e) {
      page.abort();
      none(page, 1);
    }
  }

  /** Adds that so many messages are not known. */
  public static void none(Page page, int count) {
    for (int i = 0; i < count; i++) {
      RowWriter row = page.begin();
      for (int c = KEY; c <= HEADERS; c++) {
        row.setNull(c);
      }
      page.commit(1);
    }
  }

  public static byte[] key(Page page, int row) {
    return LAYOUT.isNull(page.bytes(), page.start(row), KEY)
        ? null
        : LAYOUT.binaryValue(page.bytes(), page.start(row), KEY);
  }

  /** The message's value, or null if it was not kept. */
  public static byte[] value(Page page, int row) {
    return LAYOUT.isNull(page.bytes(), page.start(row), VALUE)
        ? null
        : LAYOUT.binaryValue(page.bytes(), page.start(row), VALUE);
  }

  public static long position(Page page, int row) {
    return LAYOUT.slot(page.bytes(), page.start(row), POSITION);
  }

  public static long millis(Page page, int row) {
    return LAYOUT.slot(page.bytes(), page.start(row), MILLIS);
  }

  /** Its headers as a JSON object, or null. */
  public static String headers(Page page, int row) {
    return LAYOUT.isNull(page.bytes(), page.start(row), HEADERS)
        ? null
        : LAYOUT.stringValue(page.bytes(), page.start(row), HEADERS);
  }
}
