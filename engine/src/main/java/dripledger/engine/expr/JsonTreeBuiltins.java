package dripledger.engine.expr;

import com.fasterxml.jackson.core.JsonProcessingException;
import com.fasterxml.jackson.databind.DeserializationFeature;
import com.fasterxml.jackson.databind.JsonNode;
import com.fasterxml.jackson.databind.ObjectReader;
import com.fasterxml.jackson.databind.cfg.JsonNodeFeature;
import com.fasterxml.jackson.databind.json.JsonMapper;

/** PostgreSQL's everyday JSON functions over text. All are strict and pure. */
public final class JsonTreeBuiltins {
  // Numbers as they are written: 4.50 stays 4.50.
  private static final ObjectReader READER =
      JsonMapper.builder()
          .enable(DeserializationFeature.USE_BIG_DECIMAL_FOR_FLOATS)
          .disable(JsonNodeFeature.STRIP_TRAILING_BIGDECIMAL_ZEROES)
          .build()
          .reader();

  private JsonTreeBuiltins() {}

  static JsonNode tree(String json) {
    try {
      return READER.readTree(json);
    } catch (JsonProcessingException e) {
      throw new Casts.CastException(
          "not JSON: " + e.getOriginalMessage().replaceAll(" \\(start marker.*", ""));
    }
  }

  /** What a path of names and places leads to; null if that is nothing. */
  private static JsonNode at(String json, String... path) {
    JsonNode node = tree(json);
    for (String step : path) {
      if (node.isArray() && step.matches("-?\\d{1,9}")) {
        int place = Integer.parseInt(step);
        node = node.get(place < 0 ? node.size() + place : place);
      } else {
        node = node.isObject() ? node.get(step) : null;
      }
      if (node == null) {
        return null;
      }
    }
    return node;
  }

  static String text(JsonNode node) {
    return node == null || node.isNull()
        ? null
        : node.isTextual() ? node.textValue() : node.toString();
  }

  private static String json(JsonNode node) {
    return node == null ? null : node.toString();
  }

  public static String json_extract_path_text(String json, String a) {
    return text(at(json, a));
  }

  public static String json_extract_path_text(String json, String a, String b) {
    return text(at(json, a, b));
  }

  public static String json_extract_path_text(String json, String a, String b, String c) {
    return text(at(json, a, b, c));
  }

  public static String json_extract_path(String json, String a) {
    return json(at(json, a));
  }

  public static String json_extract_path(String json, String a, String b) {
    return json(at(json, a, b));
  }

  public static String json_extract_path(String json, String a, String b, String c) {
    return json(at(json, a, b, c));
  }

  private static JsonNode member(String json, String name) {
    JsonNode node = tree(json);
    return node.isObject() ? node.get(name) : null;
  }

  private static JsonNode member(String json, long place) {
    JsonNode node = tree(json);
    long at = place < 0 ? node.size() + place : place;
    return node.isArray() && at >= 0 && at < node.size() ? node.get((int) at) : null;
  }

  /** {@code ->}: of objects by name, of arrays by the place. */
  public static String json_member(String json, String name) {
    return json(member(json, name));
  }

  public static String json_member(String json, long place) {
    return json(member(json, place));
  }

  /** {@code ->>}. */
  public static String json_member_text(String json, String name) {
    return text(member(json, name));
  }

  public static String json_member_text(String json, long place) {
    return text(member(json, place));
  }

  public static long json_array_length(String json) {
    JsonNode node = tree(json);
    if (!node.isArray()) {
      throw new Casts.CastException("not a JSON array");
    }
    return node.size();
  }

  public static String json_typeof(String json) {
    JsonNode node = tree(json);
    return switch (node.getNodeType()) {
      case ARRAY -> "array";
      case OBJECT -> "object";
      case STRING -> "string";
      case NUMBER -> "number";
      case BOOLEAN -> "boolean";
      default -> "null";
    };
  }
}
