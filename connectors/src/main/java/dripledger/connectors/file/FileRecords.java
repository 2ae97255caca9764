package dripledger.connectors.file;

import dripledger.connectors.format.AvroFiles;
import dripledger.connectors.format.CsvLines;
import dripledger.connectors.format.ParquetFiles;
import dripledger.connectors.message.Message;
import dripledger.connectors.message.MessageReader;
import dripledger.engine.row.Page;
import java.io.IOException;
import java.io.RandomAccessFile;
import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.util.Arrays;
import java.util.Iterator;
import java.util.Map;

/** The records of one file, one after the other from a place on. Not thread-safe. */
interface FileRecords extends AutoCloseable {
  /** Moves to the next record; false at the end of what is complete. */
  boolean next() throws IOException;

  /** Where to go on after the record moved to. */
  long position();

  /** Reads the record moved to into a page. */
  void read(MessageReader reader, Message message, Page into);

  /** The record's bytes, for its reject; may be empty. */
  byte[] raw();

  @Override
  void close() throws IOException;

  /**
   * Opens a file.
   *
   * @param from where to begin: as {@link #position} says
   * @param to where to end
   * @param ended whether the file no longer grows, so that a last line without an end counts
   */
  static FileRecords open(String format, Path file, long from, long to, boolean ended)
      throws IOException {
    return switch (format) {
      case "avro" -> new Values(AvroFiles.read(file), from, to);
      case "parquet" -> new Values(ParquetFiles.read(file), from, to);
      default -> new Lines(file, from, to, ended, format.equals("csv"));
    };
  }

  /** Lines of text by bytes; of CSV, records and the header before them. */
  final class Lines implements FileRecords {
    private final RandomAccessFile file;
    private final long to;
    private final boolean ended;
    private final boolean csv;
    private byte[] buffer = new byte[1 << 16];
    private int used;
    private int at;
    private long bufferAt;
    private int lineFrom;
    private int lineLength;
    private String header;

    Lines(Path path, long from, long to, boolean ended, boolean csv) throws IOException {
      file = new RandomAccessFile(path.toFile(), "r");
      this.to = to;
      this.ended = ended;
      this.csv = csv;
      if (csv) {
        if (!advance()) {
          return; // not even a header yet
        }
        header = line();
      }
      if (from > position()) {
        file.seek(from);
        bufferAt = from;
        used = 0;
        at = 0;
      }
    }

    private String line() {
      return new String(buffer, lineFrom, lineLength, StandardCharsets.UTF_8);
    }

    @Override
    public boolean next() throws IOException {
      if (csv && header == null) {
        return false;
      }
      while (position() < to && advance()) {
        if (lineLength > 0) {
          return true;
        }
      }
      return false;
    }

    /** Moves to the next line; of CSV a line with an open quote goes on in the next. */
    private boolean advance() throws IOException {
      int scan = at;
      boolean quoted = false;
      while (true) {
        for (; scan < used; scan++) {
          if (csv && buffer[scan] == '"') {
            quoted = !quoted;
          }
          if (buffer[scan] == '\n' && !quoted) {
            return take(scan, scan + 1);
          }
        }
        if (at > 0) {
          System.arraycopy(buffer, at, buffer, 0, used - at);
          bufferAt += at;
          used -= at;
          scan -= at;
          at = 0;
        }
        if (used == buffer.length) {
          buffer = Arrays.copyOf(buffer, buffer.length * 2);
        }
        file.seek(bufferAt + used);
        int read = file.read(buffer, used, buffer.length - used);
        if (read <= 0) {
          return ended && used > 0 && take(used, used);
        }
        used += read;
      }
    }

    private boolean take(int end, int next) {
      lineFrom = at;
      lineLength = end - at - (end > at && buffer[end - 1] == '\r' ? 1 : 0);
      at = next;
      return true;
    }

    @Override
    public long position() {
      return bufferAt + at;
    }

    @Override
    public void read(MessageReader reader, Message message, Page into) {
      if (csv) {
        reader.readCsv(CsvLines.record(line()), CsvLines.record(header), message, into);
      } else {
        message.value = buffer;
        message.from = lineFrom;
        message.length = lineLength;
        reader.read(message, into);
      }
    }

    @Override
    public byte[] raw() {
      return Arrays.copyOfRange(buffer, lineFrom, lineFrom + lineLength);
    }

    @Override
    public void close() throws IOException {
      file.close();
    }
  }

  /** Records that come as values, by number. */
  final class Values implements FileRecords {
    private final Iterator<Map<String, Object>> records;
    private final long to;
    private long read;
    private Map<String, Object> current;

    Values(Iterator<Map<String, Object>> records, long from, long to) {
      this.records = records;
      this.to = to;
      while (read < from && records.hasNext()) {
        records.next();
        read++;
      }
    }

    /** The record moved to. */
    Map<String, Object> current() {
      return current;
    }

    @Override
    public boolean next() {
      if (read >= to || !records.hasNext()) {
        return false;
      }
      current = records.next();
      read++;
      return true;
    }

    @Override
    public long position() {
      return read;
    }

    @Override
    public void read(MessageReader reader, Message message, Page into) {
      reader.readPlain(current, message, into);
    }

    @Override
    public byte[] raw() {
      return String.valueOf(current).getBytes(StandardCharsets.UTF_8);
    }

    @Override
    public void close() throws IOException {
      if (records instanceof java.io.Closeable closeable) {
        closeable.close();
      }
    }
  }
}
