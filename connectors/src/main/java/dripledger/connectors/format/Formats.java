package dripledger.connectors.format;

import com.google.protobuf.Descriptors.Descriptor;
import dripledger.engine.catalog.Origins;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import dripledger.engine.row.Schema;
import java.io.IOException;
import java.net.URI;
import java.nio.ByteBuffer;
import java.nio.charset.CharacterCodingException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.Function;
import org.apache.avro.SchemaParseException;
import org.apache.commons.csv.CSVParser;
import tools.jackson.core.JacksonException;
import tools.jackson.databind.DeserializationFeature;
import tools.jackson.databind.json.JsonMapper;

/** The message formats by name: how to decode them, and how to look at a sample. Stateless. */
public final class Formats {
  /** What FORMAT can say of messages. */
  public static final List<String> NAMES =
      List.of("json", "csv", "avro", "protobuf", "text", "bytes");

  private static final JsonMapper JSON =
      JsonMapper.builder()
          .enable(DeserializationFeature.USE_BIG_DECIMAL_FOR_FLOATS)
          .enable(DeserializationFeature.USE_LONG_FOR_INTS)
          .build();

  private Formats() {}

  private static EngineException invalid(String message, String hint) {
    return new EngineException(Code.INVALID, message, hint);
  }

  /** The decoder a FROM clause asks for. */
  public static MessageDecoder decoder(
      SourceSpec source, Schema schema, Origins origins, DriftLog drift, RegistryLogin login) {
    try {
      return switch (name(source)) {
        case "json" -> new JsonDecoder(schema, origins, drift);
        case "csv" -> new CsvDecoder(schema, origins, header(source), drift);
        case "avro" -> {
          SchemaRegistry registry = registry(source, login);
          yield new AvroDecoder(
              FieldTree.of(schema, origins),
              registry == null ? null : registry::byNumber,
              given(source),
              drift);
        }
        case "protobuf" ->
            new ProtobufDecoder(FieldTree.of(schema, origins), descriptor(source), drift);
        default -> new RawDecoder(schema, origins.meta().keySet());
      };
    } catch (FormatException e) {
      throw invalid(e.getMessage(), null);
    }
  }

  private static String name(SourceSpec source) {
    if (source.format() == null) {
      throw invalid("the messages' format is missing", "add FORMAT json, or one of " + NAMES);
    }
    if (!NAMES.contains(source.format())) {
      throw invalid("no format \"" + source.format() + "\"", "there are " + NAMES);
    }
    return source.format();
  }

  private static List<String> header(SourceSpec source) {
    String header = source.option("header");
    return header == null ? null : Arrays.asList(header.split(" *, *"));
  }

  static SchemaRegistry registry(SourceSpec source, RegistryLogin login) {
    String url = source.option("registry");
    if (url == null && source.option("schema_file") == null) {
      throw invalid(
          "FORMAT avro needs to know the schemas",
          "write FORMAT avro (registry 'http://…') or FORMAT avro (schema_file '/…')");
    }
    if (url != null && login != RegistryLogin.NONE && !isGuarded(url)) {
      throw invalid(
          "a secret would be sent to " + url + " in plain text", "write registry 'https://…'");
    }
    return url == null ? null : new SchemaRegistry(url, login);
  }

  /** Whether nobody on the way can read what is sent to an address. */
  private static boolean isGuarded(String url) {
    URI address = URI.create(url);
    return "https".equalsIgnoreCase(address.getScheme())
        || Set.of("127.0.0.1", "localhost", "[::1]").contains(String.valueOf(address.getHost()));
  }

  static org.apache.avro.Schema given(SourceSpec source) {
    String file = source.option("schema_file");
    if (file == null) {
      return null;
    }
    try {
      return new org.apache.avro.Schema.Parser().parse(Files.readString(Path.of(file)));
    } catch (IOException | SchemaParseException e) {
      throw invalid("option \"schema_file\" cannot be used: " + e.getMessage(), null);
    }
  }

  private static Descriptor descriptor(SourceSpec source) {
    String file = source.option("descriptor");
    String message = source.option("message");
    if (file == null || message == null) {
      throw invalid(
          "FORMAT protobuf needs a descriptor and a message",
          "write FORMAT protobuf (descriptor '/…/hub.desc', message 'hub.Scan')");
    }
    return ProtobufDecoder.descriptor(Path.of(file), message);
  }

  /**
   * Turns messages of a sample into plain values; the function throws FormatException for those
   * that cannot be read.
   */
  public static Function<byte[], Map<String, Object>> sampler(
      SourceSpec source, RegistryLogin login) {
    FieldTree none = FieldTree.of(new Schema(List.of()), Origins.NONE);
    switch (name(source)) {
      case "json":
        return Formats::jsonObject;
      case "csv":
        List<String> header = header(source);
        return message -> csv(message, header);
      case "avro":
        SchemaRegistry registry = registry(source, login);
        AvroDecoder avro =
            new AvroDecoder(
                none, registry == null ? null : registry::byNumber, given(source), null);
        return message -> avro.record(message, 0, message.length);
      case "protobuf":
        ProtobufDecoder protobuf = new ProtobufDecoder(none, descriptor(source), null);
        return message -> protobuf.record(message, 0, message.length);
      default:
        boolean text = source.format().equals("text");
        return message ->
            Map.of("body", text ? new String(message, StandardCharsets.UTF_8) : message);
    }
  }

  /** The columns that the format's own schema says, or null if only a sample can tell. */
  public static List<Column> declared(SourceSpec source, RegistryLogin login) {
    switch (name(source)) {
      case "avro":
        SchemaRegistry registry = registry(source, login);
        org.apache.avro.Schema avro =
            registry == null ? given(source) : registry.latest(source.option("topic"));
        return AvroValues.columns(avro);
      case "protobuf":
        try {
          return ProtobufDecoder.columns(descriptor(source));
        } catch (FormatException e) {
          throw invalid(e.getMessage(), null);
        }
      default:
        return null;
    }
  }

  /** A JSON object as plain values. */
  public static Map<String, Object> jsonObject(byte[] message) {
    try {
      Object value = JSON.readValue(message, Object.class);
      if (value instanceof Map<?, ?> map) {
        Map<String, Object> fields = new LinkedHashMap<>();
        map.forEach((k, v) -> fields.put((String) k, v));
        return fields;
      }
      throw new FormatException("not a JSON object");
    } catch (JacksonException e) {
      throw new FormatException("broken JSON: " + JsonDecoder.reason(e));
    }
  }

  private static Map<String, Object> csv(byte[] message, List<String> header) {
    try (CSVParser parser =
        CSVParser.builder()
            .setReader(new java.io.StringReader(new String(message, StandardCharsets.UTF_8)))
            .setFormat(CsvDecoder.FORMAT)
            .get()) {
      Map<String, Object> fields = new LinkedHashMap<>();
      List<String> values = parser.iterator().next().toList();
      for (int i = 0; i < values.size(); i++) {
        String name = header != null && i < header.size() ? header.get(i) : "field" + (i + 1);
        fields.put(name, values.get(i).isEmpty() ? null : values.get(i));
      }
      return fields;
    } catch (IOException | RuntimeException e) {
      throw new FormatException("broken CSV: " + e.getMessage());
    }
  }

  /** A plain value as text; what has structure as JSON. */
  public static String text(Object value) {
    return PlainValues.text(value);
  }

  /** Sets the columns that a record of plain values has; see {@link #sampler} for those. */
  public static void setPlain(
      Map<String, Object> record, FieldTree fields, RowBuilder into, DriftLog drift) {
    PlainValues.setAll(record, fields, into, drift);
  }

  /** What a message looks like: the name of a format. */
  public static String recognise(byte[] message) {
    if (message == null || message.length == 0) {
      return "empty";
    }
    if (message[0] == 0 && message.length > 5) {
      return "avro";
    }
    try {
      jsonObject(message);
      return "json";
    } catch (FormatException e) {
      // not JSON, then
    }
    try {
      String text = StandardCharsets.UTF_8.newDecoder().decode(ByteBuffer.wrap(message)).toString();
      boolean control = text.chars().anyMatch(c -> c < ' ' && c != '\n' && c != '\r' && c != '\t');
      if (control) {
        return "bytes";
      }
      boolean broken = text.strip().startsWith("{");
      return broken ? "broken json" : text.contains(",") ? "csv" : "text";
    } catch (CharacterCodingException e) {
      return "bytes";
    }
  }
}
