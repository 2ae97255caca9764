package dripledger.connectors.file;

import dripledger.engine.catalog.SourcePosition;
import java.util.Map;
import java.util.TreeMap;
import tools.jackson.core.type.TypeReference;
import tools.jackson.databind.json.JsonMapper;

/** How far each file of a folder was read, as a JSON object: bytes of text files, else records. */
final class FilePosition {
  private static final JsonMapper JSON = JsonMapper.builder().build();

  private final TreeMap<String, Long> read = new TreeMap<>();

  FilePosition() {}

  FilePosition(SourcePosition position) {
    if (position != null && !position.text().isEmpty()) {
      read.putAll(JSON.readValue(position.text(), new TypeReference<Map<String, Long>>() {}));
    }
  }

  /** By file name. */
  Map<String, Long> read() {
    return read;
  }

  SourcePosition toPosition() {
    return new SourcePosition(JSON.writeValueAsString(read));
  }
}
