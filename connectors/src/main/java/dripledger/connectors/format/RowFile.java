package dripledger.connectors.format;

import dripledger.engine.source.Outgoing;
import java.io.BufferedOutputStream;
import java.io.Closeable;
import java.io.IOException;
import java.io.OutputStream;
import java.nio.file.Files;
import java.nio.file.Path;
import org.apache.avro.file.CodecFactory;
import org.apache.avro.file.DataFileWriter;
import org.apache.avro.generic.GenericDatumWriter;
import org.apache.avro.generic.GenericRecord;
import org.apache.parquet.conf.PlainParquetConfiguration;
import org.apache.parquet.example.data.Group;
import org.apache.parquet.hadoop.ParquetWriter;
import org.apache.parquet.hadoop.example.ExampleParquetWriter;
import org.apache.parquet.hadoop.metadata.CompressionCodecName;
import org.apache.parquet.io.LocalOutputFile;
import org.apache.parquet.schema.MessageType;

/** A new file of a delivery's changes. Single thread. */
public interface RowFile extends Closeable {
  /** Adds what says a change. */
  void write(Outgoing.Change change, long epoch) throws IOException;

  /** Begins a file; one that is there is written over. */
  static RowFile create(Path path, RowMessages messages) throws IOException {
    Files.deleteIfExists(path);
    return switch (messages.format()) {
      case "avro" -> new Avro(path, messages);
      case "parquet" -> new Parquet(path, messages);
      default -> new Lines(path, messages);
    };
  }

  /** NDJSON, or CSV with a header. */
  final class Lines implements RowFile {
    private final OutputStream out;
    private final RowMessages messages;

    Lines(Path path, RowMessages messages) throws IOException {
      this.messages = messages;
      out = new BufferedOutputStream(Files.newOutputStream(path), 1 << 16);
      if (messages.isCsv()) {
        line(messages.header());
      }
    }

    private void line(byte[] bytes) throws IOException {
      out.write(bytes);
      out.write('\n');
    }

    @Override
    public void write(Outgoing.Change change, long epoch) throws IOException {
      line(messages.line(change, epoch));
    }

    @Override
    public void close() throws IOException {
      out.close();
    }
  }

  /** An Avro object container, deflated. */
  final class Avro implements RowFile {
    private static final int LEVEL = 6;

    private final RowMessages messages;
    private final org.apache.avro.Schema schema;
    private final DataFileWriter<GenericRecord> out;

    Avro(Path path, RowMessages messages) throws IOException {
      this.messages = messages;
      schema = AvroRows.schema(messages.name(), messages.recordColumns());
      out = new DataFileWriter<>(new GenericDatumWriter<>(schema));
      out.setCodec(CodecFactory.deflateCodec(LEVEL));
      out.create(schema, path.toFile());
    }

    @Override
    public void write(Outgoing.Change change, long epoch) throws IOException {
      out.append(AvroRows.record(messages.recordColumns(), messages.record(change, epoch), schema));
    }

    @Override
    public void close() throws IOException {
      out.close();
    }
  }

  /** A Parquet file, compressed with Zstandard. */
  final class Parquet implements RowFile {
    private final RowMessages messages;
    private final MessageType schema;
    private final ParquetWriter<Group> out;

    Parquet(Path path, RowMessages messages) throws IOException {
      this.messages = messages;
      schema = ParquetRows.schema(messages.name(), messages.recordColumns());
      out =
          ExampleParquetWriter.builder(new LocalOutputFile(path))
              .withType(schema)
              .withConf(new PlainParquetConfiguration())
              .withCompressionCodec(CompressionCodecName.ZSTD)
              .build();
    }

    @Override
    public void write(Outgoing.Change change, long epoch) throws IOException {
      out.write(
          ParquetRows.group(messages.recordColumns(), messages.record(change, epoch), schema));
    }

    @Override
    public void close() throws IOException {
      out.close();
    }
  }
}
