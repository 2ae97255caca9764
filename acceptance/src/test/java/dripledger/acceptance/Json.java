package dripledger.acceptance;

import java.util.Map;
import tools.jackson.databind.json.JsonMapper;

/** JSON in tests. */
final class Json {
  private static final JsonMapper MAPPER = JsonMapper.builder().build();

  private Json() {}

  @SuppressWarnings("unchecked")
  static Map<String, Object> read(String text) {
    return MAPPER.readValue(text, Map.class);
  }

  static String write(Object value) {
    return MAPPER.writeValueAsString(value);
  }
}
