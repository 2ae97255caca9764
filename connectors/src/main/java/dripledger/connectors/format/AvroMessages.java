package dripledger.connectors.format;

import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import java.io.ByteArrayOutputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.util.List;
import org.apache.avro.Schema;
import org.apache.avro.generic.GenericDatumWriter;
import org.apache.avro.generic.GenericRecord;
import org.apache.avro.io.BinaryEncoder;
import org.apache.avro.io.EncoderFactory;

/**
 * Rows as single Avro messages: with a registry a zero byte and the schema's number in four bytes
 * before the data, where the schema is registered under the topic's name; with a schema file the
 * data alone. Single thread.
 */
final class AvroMessages {
  private final List<Column> columns;
  private final SchemaRegistry registry;
  private final String subject;
  private final Schema schema;
  private final GenericDatumWriter<GenericRecord> writer;
  private BinaryEncoder encoder;
  private int number = -1; // at the registry, once it is known

  /**
   * @param name of the record, where there is no schema file
   * @param target with the options registry or schema_file, of which there must be one
   */
  AvroMessages(String name, List<Column> columns, SourceSpec target, RegistryLogin login) {
    this.columns = columns;
    registry = Formats.registry(target, login);
    Schema given = Formats.given(target);
    if (registry != null && given != null) {
      throw new EngineException(
          Code.INVALID, "the schema cannot be in a registry and in a file", "leave one out");
    }
    subject = target.option("topic") + "-value";
    schema = given != null ? given : AvroRows.schema(name, columns);
    AvroRows.check(columns, schema);
    writer = new GenericDatumWriter<>(schema);
  }

  /** Registers the schema, if there is a registry, which refuses one that breaks its readers. */
  void register() {
    if (registry != null) {
      number = registry.register(subject, schema);
    }
  }

  Schema schema() {
    return schema;
  }

  /** The record of a row. */
  GenericRecord record(Object[] row) {
    return AvroRows.record(columns, row, schema);
  }

  byte[] message(Object[] row) {
    ByteArrayOutputStream bytes = new ByteArrayOutputStream(128);
    try {
      if (registry != null) {
        if (number < 0) {
          register();
        }
        DataOutputStream head = new DataOutputStream(bytes);
        head.writeByte(0);
        head.writeInt(number);
      }
      encoder = EncoderFactory.get().directBinaryEncoder(bytes, encoder);
      writer.write(record(row), encoder);
      encoder.flush();
    } catch (IOException e) {
      throw new UncheckedIOException(e); // bytes in memory have no output to fail
    }
    return bytes.toByteArray();
  }
}
