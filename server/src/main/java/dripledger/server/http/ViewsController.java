package dripledger.server.http;

import dripledger.connectors.format.JsonRows;
import dripledger.engine.Engine;
import dripledger.engine.access.Privilege;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.ColumnType;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.io.IOException;
import java.io.StringWriter;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import java.util.stream.Collectors;
import org.springframework.http.MediaType;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.RequestParam;
import org.springframework.web.bind.annotation.RestController;
import tools.jackson.core.JsonGenerator;
import tools.jackson.databind.json.JsonMapper;

/** Look-ups in materialized views and tables: by key, by range, by prefix, and the count. */
@RestController
class ViewsController {
  private static final int DEFAULT_LIMIT = 100;
  private static final int MAX_LIMIT = 10_000;

  private final Engine engine;
  private final JsonMapper mapper;

  ViewsController(Engine engine, JsonMapper mapper) {
    this.engine = engine;
    this.mapper = mapper;
  }

  /** A relation that stays readable until this is closed. */
  private record Read(RelationVersion version, long epoch, boolean unique, Pinned pinned)
      implements AutoCloseable {
    @Override
    public void close() {
      pinned.close();
    }
  }

  private Read read(String name) {
    CatalogObject object = engine.object(name);
    boolean unique =
        object instanceof CatalogObject.Table
            || object instanceof CatalogObject.MaterializedView m && m.key() != null;
    Pinned pinned = engine.pin();
    try {
      Snapshot snapshot = pinned.snapshot();
      return new Read(Engine.relation(object, snapshot), snapshot.epoch(), unique, pinned);
    } catch (RuntimeException e) {
      pinned.close();
      throw e;
    }
  }

  @GetMapping(path = "/api/v1/views/{name}/rows/{key}", produces = MediaType.APPLICATION_JSON_VALUE)
  @Needs(Privilege.SELECT)
  String byKey(@PathVariable String name, @PathVariable String key) throws IOException {
    try (Read read = read(name)) {
      return byKey(name, key, read);
    }
  }

  private String byKey(String name, String key, Read read) throws IOException {
    RelationVersion version = read.version;
    Object[] values = keyValues(version, key);
    List<Object[]> rows = new ArrayList<>();
    version.find(
        values,
        (bytes, at) -> {
          rows.add(BoxedRows.read(version.layout(), bytes, at));
          return rows.size() < MAX_LIMIT;
        });
    boolean whole = values.length == version.key().length && read.unique;
    if (rows.isEmpty()) {
      throw new EngineException(
          Code.NOT_FOUND,
          "no row of " + name + " has the key " + key,
          "its key is (" + keyNames(version) + ")");
    }
    return json(
        g -> {
          g.writeNumberProperty("epoch", read.epoch);
          if (whole && rows.size() == 1) {
            g.writeName("row");
            JsonRows.object(g, version.schema().columns(), rows.get(0));
          } else {
            if (whole) {
              g.writeStringProperty("note", "the declared key is not unique");
            }
            writeRows(g, version, rows);
          }
        });
  }

  @GetMapping(path = "/api/v1/views/{name}/rows", produces = MediaType.APPLICATION_JSON_VALUE)
  @Needs(Privilege.SELECT)
  String range(
      @PathVariable String name,
      @RequestParam(required = false) String from,
      @RequestParam(required = false) String to,
      @RequestParam(required = false) String prefix,
      @RequestParam(defaultValue = "asc") String order,
      @RequestParam(defaultValue = "" + DEFAULT_LIMIT) int limit)
      throws IOException {
    if (!order.equals("asc") && !order.equals("desc")) {
      throw new EngineException(Code.INVALID, "order is \"asc\" or \"desc\"", null);
    }
    if (limit < 1 || limit > MAX_LIMIT) {
      throw new EngineException(Code.INVALID, "limit is from 1 to " + MAX_LIMIT, null);
    }
    if (prefix != null && (from != null || to != null)) {
      throw new EngineException(
          Code.INVALID, "prefix does not go with from and to", "use one or the other");
    }
    try (Read read = read(name)) {
      return range(read, from, to, prefix, order.equals("desc"), limit);
    }
  }

  private String range(
      Read read, String from, String to, String prefix, boolean descending, int limit)
      throws IOException {
    RelationVersion version = read.version;
    List<Object[]> rows = new ArrayList<>();
    boolean[] more = new boolean[1];
    RelationVersion.RowVisitor collect =
        (bytes, at) -> {
          if (rows.size() == limit) {
            more[0] = true;
            return false;
          }
          return rows.add(BoxedRows.read(version.layout(), bytes, at));
        };
    if (prefix != null) {
      version.prefix(encodePrefix(version, prefix), descending, collect);
    } else {
      version.range(encode(version, from), encode(version, to), descending, collect);
    }
    return json(
        g -> {
          g.writeNumberProperty("epoch", read.epoch);
          writeRows(g, version, rows);
          g.writeBooleanProperty("more", more[0]);
        });
  }

  @GetMapping("/api/v1/views/{name}/count")
  @Needs(Privilege.SELECT)
  Map<String, Object> count(@PathVariable String name) {
    try (Read read = read(name)) {
      return Map.of("epoch", read.epoch, "count", read.version.count());
    }
  }

  private static String keyNames(RelationVersion version) {
    return Arrays.stream(version.key())
        .mapToObj(i -> version.schema().column(i).name())
        .collect(Collectors.joining(", "));
  }

  private static byte[] encode(RelationVersion version, String key) {
    return key == null ? null : version.encodeKey(keyValues(version, key));
  }

  /**
   * Key columns in order, comma-separated; only the value of a single-column key may hold a comma.
   */
  private static Object[] keyValues(RelationVersion version, String key) {
    String[] parts = version.key().length == 1 ? new String[] {key} : key.split(",", -1);
    if (parts.length > version.key().length) {
      throw new EngineException(
          Code.INVALID,
          "the key has " + version.key().length + " columns: " + keyNames(version),
          "separate their values by commas");
    }
    Object[] values = new Object[parts.length];
    for (int i = 0; i < parts.length; i++) {
      ColumnType type = version.schema().type(version.key()[i]);
      try {
        values[i] = Casts.parse(parts[i], type);
      } catch (RuntimeException e) {
        throw new EngineException(
            Code.INVALID,
            "key column "
                + version.schema().column(version.key()[i]).name()
                + ": \""
                + parts[i]
                + "\" is not of type "
                + type.sql());
      }
    }
    return values;
  }

  /** Leading key columns, the last of which, if it is text, need only start so. */
  private static byte[] encodePrefix(RelationVersion version, String prefix) {
    int cut = version.key().length == 1 ? -1 : prefix.lastIndexOf(',');
    Object[] leading = cut < 0 ? new Object[0] : keyValues(version, prefix.substring(0, cut));
    String last = prefix.substring(cut + 1);
    if (leading.length >= version.key().length
        || version.schema().type(version.key()[leading.length]).kind() != ColumnType.Kind.VARCHAR) {
      return version.encodeKey(keyValues(version, prefix));
    }
    return version.encodeTextPrefix(version.encodeKey(leading), leading.length, last);
  }

  private static void writeRows(JsonGenerator g, RelationVersion version, List<Object[]> rows) {
    g.writeArrayPropertyStart("rows");
    rows.forEach(r -> JsonRows.object(g, version.schema().columns(), r));
    g.writeEndArray();
  }

  private interface Body {
    void write(JsonGenerator json);
  }

  private String json(Body body) throws IOException {
    StringWriter out = new StringWriter();
    try (JsonGenerator generator = mapper.createGenerator(out)) {
      generator.writeStartObject();
      body.write(generator);
      generator.writeEndObject();
    }
    return out.toString();
  }
}
