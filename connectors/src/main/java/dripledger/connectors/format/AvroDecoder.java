package dripledger.connectors.format;

import java.io.IOException;
import java.nio.ByteBuffer;
import java.util.HashMap;
import java.util.Map;
import java.util.function.IntFunction;
import org.apache.avro.AvroRuntimeException;
import org.apache.avro.Schema;
import org.apache.avro.generic.GenericDatumReader;
import org.apache.avro.generic.GenericRecord;
import org.apache.avro.io.BinaryDecoder;
import org.apache.avro.io.DecoderFactory;

/**
 * Single Avro messages: a zero byte, the schema's number in four bytes, then the data; or, without
 * a registry, the data alone, written with a given schema.
 */
public final class AvroDecoder implements MessageDecoder {
  private final FieldTree fields;
  private final IntFunction<Schema> registry;
  private final Schema given;
  private final DriftLog drift;
  private final Map<Schema, GenericDatumReader<GenericRecord>> readers = new HashMap<>();
  private BinaryDecoder decoder;

  /**
   * @param registry answers schemas by number, or null
   * @param given the schema of messages without a number, or null
   */
  AvroDecoder(FieldTree fields, IntFunction<Schema> registry, Schema given, DriftLog drift) {
    this.fields = fields;
    this.registry = registry;
    this.given = given;
    this.drift = drift;
  }

  @Override
  public void decode(byte[] message, int from, int length, RowBuilder into) {
    PlainValues.setAll(record(message, from, length), fields, into, drift);
  }

  /** The message as plain values. */
  Map<String, Object> record(byte[] message, int from, int length) {
    Schema written = given;
    int at = from;
    if (registry != null) {
      if (length < 5 || message[from] != 0) {
        throw new FormatException("the message has no schema number: it does not start with a 0");
      }
      written = registry.apply(ByteBuffer.wrap(message, from + 1, 4).getInt());
      at = from + 5;
    }
    if (written.getType() != Schema.Type.RECORD) {
      throw new FormatException("the message's schema is not a record");
    }
    try {
      decoder = DecoderFactory.get().binaryDecoder(message, at, length - (at - from), decoder);
      return AvroValues.record(
          readers.computeIfAbsent(written, s -> new GenericDatumReader<>(s)).read(null, decoder));
    } catch (IOException | AvroRuntimeException | IndexOutOfBoundsException e) {
      throw new FormatException("broken Avro: " + e.getMessage());
    }
  }
}
