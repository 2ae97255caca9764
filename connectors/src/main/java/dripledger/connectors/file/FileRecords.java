package dripledger.connectors.file;

import dripledger.connectors.format.AvroFiles;
import dripledger.connectors.format.CsvText;
import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.ParquetFiles;
import dripledger.connectors.format.TextLines;
import dripledger.connectors.message.Message;
import dripledger.connectors.message.MessageReader;
import dripledger.engine.row.Page;
import java.io.IOException;
import java.io.RandomAccessFile;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.Iterator;
import java.util.Map;

/** The records of one file, one after the other from a place on. Not thread-safe. */
interface FileRecords extends AutoCloseable {
  /** The longest line of text, in bytes. */
  int MOST_BYTES = 16 << 20;

  /** How long nobody has written to a file of which we think that nobody will. */
  long SETTLED_MILLIS = 60_000;

  /**
   * Sees whether the file's records can be those of a definition at all.
   *
   * @throws FormatException if not
   */
  default void check(MessageReader reader) {}

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
      case "csv" -> new Csv(file, from, to, ended);
      default -> new Lines(file, from, to, ended);
    };
  }

  /** Whether a file has not been written to for so long that what is half there stays so. */
  static boolean settled(Path file) throws IOException {
    return System.currentTimeMillis() - Files.getLastModifiedTime(file).toMillis() > SETTLED_MILLIS;
  }

  private static TextLines lines(RandomAccessFile file, boolean ended, boolean quotes) {
    return new TextLines(
        (place, into, at, room) -> {
          file.seek(place);
          return file.read(into, at, room);
        },
        MOST_BYTES,
        ended,
        quotes);
  }

  /** One record a line. */
  final class Lines implements FileRecords {
    private final RandomAccessFile file;
    private final TextLines lines;
    private final long to;

    Lines(Path path, long from, long to, boolean ended) throws IOException {
      file = new RandomAccessFile(path.toFile(), "r");
      lines = lines(file, ended, false);
      this.to = to;
      lines.seek(from);
    }

    @Override
    public boolean next() throws IOException {
      while (lines.position() < to && lines.next()) {
        if (lines.length() > 0) {
          return true;
        }
      }
      return false;
    }

    @Override
    public long position() {
      return lines.position();
    }

    @Override
    public void read(MessageReader reader, Message message, Page into) {
      lines.refuseTooLong();
      message.value = lines.bytes();
      message.from = lines.from();
      message.length = lines.length();
      reader.read(message, into);
    }

    @Override
    public byte[] raw() {
      return lines.copy();
    }

    @Override
    public void close() throws IOException {
      file.close();
    }
  }

  /** CSV. */
  final class Csv implements FileRecords {
    private final RandomAccessFile file;
    private final CsvText text;

    Csv(Path path, long from, long to, boolean ended) throws IOException {
      file = new RandomAccessFile(path.toFile(), "r");
      text = new CsvText(lines(file, ended, true), from, to, ended || settled(path));
    }

    @Override
    public void check(MessageReader reader) {
      if (text.header() != null) {
        reader.checkCsv(text.header());
      }
    }

    @Override
    public boolean next() throws IOException {
      return text.next();
    }

    @Override
    public long position() {
      return text.position();
    }

    @Override
    public void read(MessageReader reader, Message message, Page into) {
      reader.readCsv(text.fields(), text.header(), message, into);
    }

    @Override
    public byte[] raw() {
      return text.raw();
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
