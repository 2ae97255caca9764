package dripledger.connectors.format;

import com.google.protobuf.ByteString;
import com.google.protobuf.DescriptorProtos.FileDescriptorProto;
import com.google.protobuf.DescriptorProtos.FileDescriptorSet;
import com.google.protobuf.Descriptors.Descriptor;
import com.google.protobuf.Descriptors.DescriptorValidationException;
import com.google.protobuf.Descriptors.EnumValueDescriptor;
import com.google.protobuf.Descriptors.FieldDescriptor;
import com.google.protobuf.Descriptors.FileDescriptor;
import com.google.protobuf.DynamicMessage;
import com.google.protobuf.InvalidProtocolBufferException;
import com.google.protobuf.Message;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.io.IOException;
import java.math.BigDecimal;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/**
 * Protobuf messages of one type of a descriptor set, as {@code protoc --descriptor_set_out} writes.
 */
public final class ProtobufDecoder implements MessageDecoder {
  private final FieldTree fields;
  private final Descriptor descriptor;
  private final DriftLog drift;

  ProtobufDecoder(FieldTree fields, Descriptor descriptor, DriftLog drift) {
    this.fields = fields;
    this.descriptor = descriptor;
    this.drift = drift;
  }

  /**
   * Finds a message type in a descriptor set.
   *
   * @throws FormatException if file or type cannot be read or found
   */
  static Descriptor descriptor(Path file, String messageName) {
    try {
      FileDescriptorSet set = FileDescriptorSet.parseFrom(Files.readAllBytes(file));
      Map<String, FileDescriptor> built = new HashMap<>();
      List<String> known = new ArrayList<>();
      for (FileDescriptorProto proto : set.getFileList()) {
        FileDescriptor[] uses =
            proto.getDependencyList().stream().map(built::get).toArray(FileDescriptor[]::new);
        FileDescriptor descriptor = FileDescriptor.buildFrom(proto, uses);
        built.put(proto.getName(), descriptor);
        for (Descriptor type : descriptor.getMessageTypes()) {
          known.add(type.getFullName());
          if (type.getFullName().equals(messageName) || type.getName().equals(messageName)) {
            return type;
          }
        }
      }
      throw new FormatException(
          "no message \"" + messageName + "\" in the descriptor; there are " + known);
    } catch (IOException | DescriptorValidationException e) {
      throw new FormatException("the descriptor cannot be read: " + e.getMessage());
    }
  }

  @Override
  public void decode(byte[] message, int from, int length, RowBuilder into) {
    PlainValues.setAll(record(message, from, length), fields, into, drift);
  }

  /** The message as plain values. */
  Map<String, Object> record(byte[] message, int from, int length) {
    try {
      return values(
          DynamicMessage.parseFrom(descriptor, ByteString.copyFrom(message, from, length)));
    } catch (InvalidProtocolBufferException e) {
      throw new FormatException("broken Protobuf: " + e.getMessage());
    }
  }

  private static Map<String, Object> values(Message message) {
    Map<String, Object> values = new LinkedHashMap<>();
    for (FieldDescriptor field : message.getDescriptorForType().getFields()) {
      if (field.isMapField()) {
        Map<String, Object> map = new LinkedHashMap<>();
        for (Object entry : (List<?>) message.getField(field)) {
          Map<String, Object> pair = values((Message) entry);
          map.put(String.valueOf(pair.get("key")), pair.get("value"));
        }
        values.put(field.getName(), map);
      } else if (field.isRepeated()) {
        values.put(
            field.getName(),
            ((List<?>) message.getField(field)).stream().map(v -> plain(v)).toList());
      } else if (!field.hasPresence() || message.hasField(field)) {
        values.put(field.getName(), plain(message.getField(field)));
      }
    }
    return values;
  }

  private static Object plain(Object value) {
    if (value instanceof Message m) {
      String type = m.getDescriptorForType().getFullName();
      Map<String, Object> fields = values(m);
      if (type.equals("google.protobuf.Timestamp")) {
        long seconds = (Long) fields.getOrDefault("seconds", 0L);
        long nanos = (Long) fields.getOrDefault("nanos", 0L);
        return BoxedRows.timestamp(seconds * 1_000_000 + nanos / 1000);
      }
      boolean wrapper = type.startsWith("google.protobuf.") && type.endsWith("Value");
      return wrapper ? fields.get("value") : fields;
    }
    if (value instanceof Integer i) {
      return i.longValue();
    }
    if (value instanceof Float f) {
      return new BigDecimal(f.toString()).doubleValue();
    }
    if (value instanceof EnumValueDescriptor e) {
      return e.getName();
    }
    return value instanceof ByteString b ? b.toByteArray() : value;
  }

  /** The columns a message type says. */
  static List<Column> columns(Descriptor type) {
    return type.getFields().stream()
        .map(
            f -> {
              ColumnType one = type(f);
              return new Column(
                  f.getName(),
                  f.isMapField()
                      ? ColumnType.varchar(-1)
                      : f.isRepeated()
                          ? ColumnType.array(one.withNullable(true))
                          : one.withNullable(f.hasPresence()));
            })
        .toList();
  }

  private static ColumnType type(FieldDescriptor field) {
    return switch (field.getJavaType()) {
      case INT -> ColumnType.of(Kind.BIGINT);
      case LONG -> ColumnType.of(Kind.BIGINT);
      case FLOAT, DOUBLE -> ColumnType.of(Kind.DOUBLE);
      case BOOLEAN -> ColumnType.of(Kind.BOOLEAN);
      case BYTE_STRING -> ColumnType.of(Kind.VARBINARY);
      case MESSAGE ->
          field.getMessageType().getFullName().equals("google.protobuf.Timestamp")
              ? ColumnType.of(Kind.TIMESTAMP)
              : ColumnType.row(
                  columns(field.getMessageType()).stream()
                      .map(c -> new Column(c.name(), c.type().withNullable(true)))
                      .toList());
      default -> ColumnType.varchar(-1);
    };
  }
}
