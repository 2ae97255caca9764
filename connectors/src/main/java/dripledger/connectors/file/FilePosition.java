package dripledger.connectors.file;

import dripledger.engine.catalog.SourcePosition;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import tools.jackson.core.type.TypeReference;
import tools.jackson.databind.json.JsonMapper;

/**
 * How far each file of a folder was read, and how to know it again: a JSON object of arrays by file
 * name. Files that are no longer there are left out. Not thread-safe; positions made of it are.
 */
final class FilePosition {
  private static final JsonMapper JSON = JsonMapper.builder().build();
  private static final int FEW = 100;

  /**
   * How far a file was read.
   *
   * @param at where to go on: bytes of text, else records
   * @param print how to know the file again, or null if that was not kept
   */
  record Place(long at, FilePrint print) {}

  // Most files stay as they are: a position shares them with the next, and copies only the few
  // that were read since they were last put together.
  private Map<String, Place> settled;
  private final Map<String, Place> recent = new HashMap<>();

  FilePosition() {
    settled = Map.of();
  }

  /**
   * @param position what {@link #toPosition} made, or null
   */
  FilePosition(SourcePosition position) {
    settled = new HashMap<>();
    if (position != null && !position.text().isEmpty()) {
      JSON.readValue(position.text(), new TypeReference<Map<String, Object>>() {})
          .forEach((name, value) -> settled.put(name, place(value)));
    }
  }

  private static Place place(Object value) {
    if (value instanceof List<?> parts) {
      List<Long> heads = ((List<?>) parts.get(3)).stream().map(FilePosition::number).toList();
      return new Place(
          number(parts.get(0)),
          new FilePrint((String) parts.get(1), number(parts.get(2)), heads, number(parts.get(4))));
    }
    return new Place(number(value), null);
  }

  private static long number(Object value) {
    return ((Number) value).longValue();
  }

  /** The file's place, or null if it was not read. */
  Place of(String name) {
    Place place = recent.get(name);
    return place != null ? place : settled.get(name);
  }

  /** All places by file name, in the order of the names. */
  Map<String, Place> places() {
    Map<String, Place> all = new TreeMap<>(settled);
    all.putAll(recent);
    return all;
  }

  void put(String name, Place place) {
    recent.put(name, place);
    if (recent.size() > Math.max(FEW, Math.sqrt(settled.size()))) {
      become(places());
    }
  }

  /** Takes these places for all it had. */
  void become(Map<String, Place> places) {
    settled = new HashMap<>(places);
    recent.clear();
  }

  SourcePosition toPosition() {
    Map<String, Place> shared = settled;
    Map<String, Place> own = Map.copyOf(recent);
    return new SourcePosition(() -> text(shared, own));
  }

  private static String text(Map<String, Place> settled, Map<String, Place> recent) {
    Map<String, Object> all = new TreeMap<>();
    settled.forEach((name, place) -> all.put(name, value(place)));
    recent.forEach((name, place) -> all.put(name, value(place)));
    return JSON.writeValueAsString(all);
  }

  private static Object value(Place place) {
    FilePrint p = place.print();
    return p == null ? place.at() : List.of(place.at(), p.key(), p.bytes(), p.heads(), p.tail());
  }
}
