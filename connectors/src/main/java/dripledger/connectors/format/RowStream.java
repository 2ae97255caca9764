package dripledger.connectors.format;

import dripledger.engine.row.Column;
import java.io.Closeable;
import java.io.IOException;
import java.io.OutputStream;
import java.nio.charset.StandardCharsets;
import java.util.List;
import java.util.Locale;
import org.apache.parquet.conf.PlainParquetConfiguration;
import org.apache.parquet.example.data.Group;
import org.apache.parquet.hadoop.ParquetWriter;
import org.apache.parquet.hadoop.example.ExampleParquetWriter;
import org.apache.parquet.hadoop.metadata.CompressionCodecName;
import org.apache.parquet.io.OutputFile;
import org.apache.parquet.io.PositionOutputStream;
import org.apache.parquet.schema.MessageType;

/** Rows written one after the other as a file of an open format. Single thread. */
public interface RowStream extends Closeable {
  /** The formats there are. */
  enum Format {
    NDJSON("application/x-ndjson"),
    CSV("text/csv;charset=utf-8"),
    PARQUET("application/vnd.apache.parquet"),
    ARROW(ArrowStream.MEDIA_TYPE);

    private final String mediaType;

    Format(String mediaType) {
      this.mediaType = mediaType;
    }

    public String mediaType() {
      return mediaType;
    }

    /**
     * The format of a file's ending, or of a media type.
     *
     * @return null if it is none of them
     */
    public static Format of(String text) {
      for (Format format : values()) {
        if (text.equals(format.name().toLowerCase(Locale.ROOT))
            || text.equals(format.mediaType.replaceAll(";.*", ""))) {
          return format;
        }
      }
      return null;
    }
  }

  /**
   * Adds a row.
   *
   * @param row boxed, in the order of the columns
   */
  void write(Object[] row) throws IOException;

  /** Begins to write; closing this closes the stream too. */
  static RowStream of(Format format, String name, List<Column> columns, OutputStream out)
      throws IOException {
    return switch (format) {
      case NDJSON -> new Lines(columns, out, false);
      case CSV -> new Lines(columns, out, true);
      case PARQUET -> new Parquet(name, columns, out);
      case ARROW -> new ArrowStream(columns, out);
    };
  }

  /** NDJSON, or CSV with a header (RFC 4180). */
  final class Lines implements RowStream {
    private final List<Column> columns;
    private final OutputStream out;
    private final boolean csv;
    private final JsonRows.Messages json = new JsonRows.Messages();

    Lines(List<Column> columns, OutputStream out, boolean csv) throws IOException {
      this.columns = columns;
      this.out = out;
      this.csv = csv;
      if (csv) {
        line(columns.stream().map(Column::name).toArray());
      }
    }

    @Override
    public void write(Object[] row) throws IOException {
      if (csv) {
        line(row);
      } else {
        out.write(json.message(columns, row));
        out.write('\n');
      }
    }

    private void line(Object[] values) throws IOException {
      StringBuilder line = new StringBuilder();
      for (int i = 0; i < values.length; i++) {
        line.append(i == 0 ? "" : ",").append(field(i, values[i]));
      }
      out.write(line.append("\r\n").toString().getBytes(StandardCharsets.UTF_8));
    }

    private String field(int column, Object value) {
      if (value == null) {
        return "";
      }
      String text =
          value instanceof List<?>
              ? JsonRows.text(columns.get(column).type(), value)
              : PlainText.of(value);
      boolean quotes =
          text.isEmpty() || text.chars().anyMatch(c -> c == ',' || c == '"' || c < ' ');
      return quotes ? '"' + text.replace("\"", "\"\"") + '"' : text;
    }

    @Override
    public void close() throws IOException {
      out.close();
    }
  }

  /** A Parquet file, compressed with Zstandard; a row group goes out as it is full. */
  final class Parquet implements RowStream {
    private static final long GROUP_BYTES = 8L << 20;

    private final List<Column> columns;
    private final MessageType schema;
    private final ParquetWriter<Group> writer;
    private final OutputStream out;

    Parquet(String name, List<Column> columns, OutputStream out) throws IOException {
      this.columns = columns;
      this.out = out;
      schema = ParquetRows.schema(name, columns);
      writer =
          ExampleParquetWriter.builder(new Through(out))
              .withType(schema)
              .withConf(new PlainParquetConfiguration())
              .withRowGroupSize(GROUP_BYTES)
              .withCompressionCodec(CompressionCodecName.ZSTD)
              .build();
    }

    @Override
    public void write(Object[] row) throws IOException {
      writer.write(ParquetRows.group(columns, row, schema));
    }

    @Override
    public void close() throws IOException {
      writer.close();
      out.close();
    }
  }

  /** A stream as the file that is written. */
  final class Through implements OutputFile {
    private final OutputStream out;

    Through(OutputStream out) {
      this.out = out;
    }

    @Override
    public PositionOutputStream create(long blockSizeHint) {
      return new PositionOutputStream() {
        private long position;

        @Override
        public long getPos() {
          return position;
        }

        @Override
        public void write(int b) throws IOException {
          out.write(b);
          position++;
        }

        @Override
        public void write(byte[] bytes, int from, int length) throws IOException {
          out.write(bytes, from, length);
          position += length;
        }
      };
    }

    @Override
    public PositionOutputStream createOrOverwrite(long blockSizeHint) {
      return create(blockSizeHint);
    }

    @Override
    public boolean supportsBlockSize() {
      return false;
    }

    @Override
    public long defaultBlockSize() {
      return 0;
    }
  }
}
