package dripledger.server.wire;

import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Iterator;
import java.util.List;
import java.util.NoSuchElementException;

/** The rows that a client copies in, of any of the forms. Waits for them. One thread. */
final class CopyReader implements Iterator<Object[]> {
  private static final int MOST_BYTES = 16 * 1024 * 1024; // of a message, and of a row

  private final WireInput in;
  private final CopyOptions options;
  private final Schema schema;
  private final int[] places;
  private final WireSession session;
  private byte[] data = new byte[0];
  private int at;
  private boolean ended; // nothing more comes
  private boolean headed;
  private long row;
  private Object[] next;

  CopyReader(WireInput in, CopyOptions options, Schema schema, int[] places, WireSession session) {
    this.in = in;
    this.options = options;
    this.schema = schema;
    this.places = places;
    this.session = session;
  }

  @Override
  public boolean hasNext() {
    if (next == null) {
      try {
        next = options.format() == CopyOptions.Format.BINARY ? binary() : text();
      } catch (IOException e) {
        throw new UncheckedIOException(e);
      }
    }
    return next != null;
  }

  @Override
  public Object[] next() {
    if (!hasNext()) {
      throw new NoSuchElementException();
    }
    Object[] given = next;
    next = null;
    return given;
  }

  /** Waits for more; false if the client has said that this is all. */
  private boolean more() throws IOException {
    while (!ended) {
      session.goOn();
      byte type = in.next(MOST_BYTES);
      switch (type) {
        case 'd' -> {
          byte[] got = in.rest();
          byte[] both = Arrays.copyOfRange(data, at, data.length + got.length);
          System.arraycopy(got, 0, both, data.length - at, got.length);
          data = both;
          at = 0;
          if (data.length > 2 * MOST_BYTES) {
            throw new WireError("54000", "a row is longer than " + MOST_BYTES + " bytes", null);
          }
          return true;
        }
        case 'c' -> ended = true;
        case 'f' -> throw new WireError("57014", "the client ended the copy: " + in.text(), null);
        case 'H', 'S' -> {}
        default -> throw new WireInput.Malformed("a copy is not done yet");
      }
    }
    return false;
  }

  private boolean has(int bytes) throws IOException {
    while (data.length - at < bytes) {
      if (!more()) {
        return false;
      }
    }
    return true;
  }

  // ---- lines

  private Object[] text() throws IOException {
    if (!headed) {
      headed = true;
      if (options.header()) {
        line();
      }
    }
    List<byte[]> values = line();
    if (values == null) {
      return null;
    }
    row++;
    if (values.size() != places.length) {
      throw wrong(values.size() + " values for " + places.length + " columns");
    }
    Object[] read = new Object[places.length];
    for (int i = 0; i < read.length; i++) {
      byte[] value = values.get(i);
      read[i] = value == null ? null : value(i, value, false);
    }
    return read;
  }

  private WireError wrong(String what) {
    return new WireError("22P04", "row " + row + ": " + what, null);
  }

  private Object value(int i, byte[] bytes, boolean binary) throws IOException {
    ColumnType type = schema.type(places[i]);
    String name = schema.column(places[i]).name() + " in row " + row;
    return WireParameters.read(name, type, bytes, 0, bytes.length, binary);
  }

  /** The values of a line, null for NULL; null at the end. */
  private List<byte[]> line() throws IOException {
    if (!has(1)) {
      return null;
    }
    boolean csv = options.format() == CopyOptions.Format.CSV;
    List<byte[]> values = new ArrayList<>();
    ByteArrayOutputStream value = new ByteArrayOutputStream();
    ByteArrayOutputStream raw = new ByteArrayOutputStream(); // as it was written
    boolean quoted = false;
    boolean wasQuoted = false;
    while (true) {
      if (!has(1)) {
        if (quoted) {
          throw wrong("a quote is not closed");
        }
        break;
      }
      byte b = data[at++];
      if (quoted) {
        if (b == options.escape() && has(1) && data[at] == options.quote()) {
          value.write(data[at++]);
        } else if (b == options.quote()) {
          quoted = false;
        } else {
          value.write(b);
        }
        continue;
      }
      if (b == '\n') {
        break;
      }
      if (b == options.delimiter()) {
        values.add(taken(value, raw, wasQuoted));
        wasQuoted = false;
      } else if (csv && b == options.quote()) {
        quoted = true;
        wasQuoted = true;
      } else if (!csv && b == '\\' && has(1)) {
        raw.write(b);
        raw.write(data[at]);
        value.write(escaped(data[at++]));
      } else if (b != '\r' || has(1) && data[at] != '\n') {
        value.write(b);
        raw.write(b);
      }
    }
    boolean last =
        values.isEmpty()
            && !wasQuoted
            && raw.size() == 2
            && raw.toString(StandardCharsets.UTF_8).equals("\\.");
    if (last) {
      while (more()) {
        at = data.length; // what is behind the end is not looked at
      }
      return null;
    }
    values.add(taken(value, raw, wasQuoted));
    return values;
  }

  private byte[] taken(ByteArrayOutputStream value, ByteArrayOutputStream raw, boolean quoted) {
    boolean isNull = !quoted && raw.toString(StandardCharsets.UTF_8).equals(options.nothing());
    byte[] bytes = value.toByteArray();
    value.reset();
    raw.reset();
    return isNull ? null : bytes;
  }

  private static int escaped(byte b) {
    return switch (b) {
      case 'n' -> '\n';
      case 'r' -> '\r';
      case 't' -> '\t';
      case 'b' -> '\b';
      case 'f' -> '\f';
      case 'v' -> 11;
      default -> b;
    };
  }

  // ---- binary

  private Object[] binary() throws IOException {
    if (!headed) {
      headed = true;
      if (!has(19)) {
        throw wrong("there is no header");
      }
      at += 15;
      int extension = int32();
      if (extension < 0 || !has(extension)) {
        throw wrong("the header is broken");
      }
      at += extension;
    }
    row++;
    if (!has(2)) {
      return null;
    }
    int count = (short) ((data[at] & 255) << 8 | data[at + 1] & 255);
    at += 2;
    if (count < 0) {
      while (more()) {
        at = data.length;
      }
      return null;
    }
    if (count != places.length) {
      throw wrong(count + " values for " + places.length + " columns");
    }
    Object[] read = new Object[count];
    for (int i = 0; i < count; i++) {
      if (!has(4)) {
        throw wrong("it ends early");
      }
      int length = int32();
      if (length > MOST_BYTES || length >= 0 && !has(length)) {
        throw wrong("it ends early");
      }
      if (length >= 0) {
        read[i] = value(i, Arrays.copyOfRange(data, at, at + length), true);
        at += length;
      }
    }
    return read;
  }

  private int int32() {
    int value =
        (data[at] & 255) << 24
            | (data[at + 1] & 255) << 16
            | (data[at + 2] & 255) << 8
            | data[at + 3] & 255;
    at += 4;
    return value;
  }
}
