package dripledger.connectors.message;

import dripledger.connectors.format.FormatException;
import dripledger.engine.catalog.SourceSpec;
import java.util.Arrays;
import java.util.Set;
import java.util.stream.Collectors;
import tools.jackson.core.JacksonException;
import tools.jackson.databind.JsonNode;
import tools.jackson.databind.json.JsonMapper;

/**
 * The wrapping of a change by a capture tool: where in the message it says what was done and how
 * the row was before and after, by the options {@code operation}, {@code before} and {@code after}
 * (paths with dots) and {@code delete_words} (what {@code operation} says of a row that is gone).
 * Immutable.
 */
record Envelope(String[] operation, String[] before, String[] after, Set<String> deleteWords) {
  private static final JsonMapper JSON = JsonMapper.builder().build();

  /**
   * A change, taken out of its wrapping.
   *
   * @param before the row's JSON, or null
   * @param after the row's JSON, or null
   */
  record Change(boolean delete, byte[] before, byte[] after) {}

  /** The wrapping a FROM clause tells of, or null. */
  static Envelope of(SourceSpec source) {
    if (source.option("after") == null) {
      return null;
    }
    return new Envelope(
        path(source.option("operation")),
        path(source.option("before")),
        path(source.option("after")),
        Arrays.stream(source.option("delete_words", "d,delete,D,DELETE").split(","))
            .map(String::strip)
            .collect(Collectors.toSet()));
  }

  private static String[] path(String option) {
    return option == null ? null : option.split("\\.");
  }

  Change read(byte[] message, int from, int length) {
    try {
      JsonNode root = JSON.readTree(message, from, length);
      JsonNode word = at(root, operation);
      return new Change(
          word != null && deleteWords.contains(word.asString("")),
          bytes(at(root, before)),
          bytes(at(root, after)));
    } catch (JacksonException e) {
      throw new FormatException(
          "broken JSON: " + e.getOriginalMessage().lines().findFirst().orElse(""));
    }
  }

  private static JsonNode at(JsonNode root, String[] path) {
    JsonNode node = root;
    for (int i = 0; path != null && node != null && i < path.length; i++) {
      node = node.get(path[i]);
    }
    return path == null || node == null || node.isNull() ? null : node;
  }

  private static byte[] bytes(JsonNode node) {
    return node == null ? null : JSON.writeValueAsBytes(node);
  }
}
