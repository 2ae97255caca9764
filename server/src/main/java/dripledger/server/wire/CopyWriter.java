package dripledger.server.wire;

import java.io.IOException;
import java.io.OutputStream;
import java.io.UncheckedIOException;
import java.nio.charset.StandardCharsets;
import java.util.List;

/** Sends rows as COPY has them: each row that is sent to {@link #output} becomes a line. */
final class CopyWriter {
  private static final byte[] SIGNATURE = {
    'P', 'G', 'C', 'O', 'P', 'Y', '\n', -1, '\r', '\n', 0, 0, 0, 0, 0, 0, 0, 0, 0
  };

  private final WireOutput wire;
  private final CopyOptions options;
  private final List<Field> fields;
  private final WireOutput rows = new WireOutput(new Lines());

  CopyWriter(WireOutput wire, CopyOptions options, List<Field> fields) {
    this.wire = wire;
    this.options = options;
    this.fields = fields;
  }

  private boolean isBinary() {
    return options.format() == CopyOptions.Format.BINARY;
  }

  Formats formats() {
    return isBinary() ? Formats.BINARY : Formats.TEXT;
  }

  /** Where rows are to be sent. */
  WireOutput output() {
    return rows;
  }

  /** Sends one row. */
  void row(Object[] row) {
    try {
      Portals.row(rows, fields, row, formats());
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    }
  }

  void begin() {
    try {
      head();
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    }
  }

  private void head() throws IOException {
    int code = isBinary() ? 1 : 0;
    wire.begin('H').int8(code).int16(fields.size());
    fields.forEach(f -> wire.int16(code));
    wire.end();
    if (isBinary()) {
      wire.begin('d').bytes(SIGNATURE).end();
    } else if (options.header()) {
      wire.begin('d');
      for (int i = 0; i < fields.size(); i++) {
        byte[] name = fields.get(i).name().getBytes(StandardCharsets.UTF_8);
        value(i, name, 0, name.length);
      }
      wire.int8('\n').end();
    }
  }

  void finish() throws IOException {
    rows.flush();
    if (isBinary()) {
      wire.begin('d').int16(-1).end();
    }
    wire.begin('c').end();
  }

  /** Takes rows as messages, always whole ones. */
  private final class Lines extends OutputStream {
    @Override
    public void write(int b) {
      throw new UnsupportedOperationException();
    }

    @Override
    public void write(byte[] bytes, int from, int length) throws IOException {
      int at = from;
      while (at < from + length) {
        int size = int32(bytes, at + 1);
        line(bytes, at + 5, size - 4);
        at += size + 1;
      }
    }

    @Override
    public void flush() throws IOException {
      // what is gathered goes with the rest
    }
  }

  private void line(byte[] bytes, int from, int length) throws IOException {
    wire.begin('d');
    if (isBinary()) {
      wire.bytes(bytes, from, length); // the form is the same
    } else {
      int at = from + 2;
      for (int i = 0; i < fields.size(); i++) {
        int size = int32(bytes, at);
        at += 4;
        value(i, bytes, at, size);
        at += Math.max(0, size);
      }
      wire.int8('\n');
    }
    wire.end();
  }

  private void value(int place, byte[] bytes, int from, int length) {
    if (place > 0) {
      wire.int8(options.delimiter());
    }
    if (length < 0) {
      wire.chars(options.nothing());
    } else if (options.format() == CopyOptions.Format.CSV) {
      csv(bytes, from, length);
    } else {
      text(bytes, from, length);
    }
  }

  private void csv(byte[] bytes, int from, int length) {
    boolean quotes =
        new String(bytes, from, length, StandardCharsets.UTF_8).equals(options.nothing());
    for (int i = from; i < from + length; i++) {
      byte b = bytes[i];
      quotes |= b == options.delimiter() || b == options.quote() || b == '\n' || b == '\r';
    }
    if (!quotes) {
      wire.bytes(bytes, from, length);
      return;
    }
    wire.int8(options.quote());
    for (int i = from; i < from + length; i++) {
      if (bytes[i] == options.quote() || bytes[i] == options.escape()) {
        wire.int8(options.escape());
      }
      wire.int8(bytes[i]);
    }
    wire.int8(options.quote());
  }

  private void text(byte[] bytes, int from, int length) {
    for (int i = from; i < from + length; i++) {
      byte b = bytes[i];
      switch (b) {
        case '\n' -> wire.int8('\\').int8('n');
        case '\r' -> wire.int8('\\').int8('r');
        case '\t' -> wire.int8('\\').int8('t');
        case '\\' -> wire.int8('\\').int8('\\');
        default -> {
          if (b == options.delimiter()) {
            wire.int8('\\');
          }
          wire.int8(b);
        }
      }
    }
  }

  private static int int32(byte[] bytes, int at) {
    return (bytes[at] & 255) << 24
        | (bytes[at + 1] & 255) << 16
        | (bytes[at + 2] & 255) << 8
        | bytes[at + 3] & 255;
  }
}
