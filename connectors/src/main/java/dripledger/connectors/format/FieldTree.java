package dripledger.connectors.format;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import java.util.HashMap;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;

/**
 * The fields of a message: which column each fills, and which objects hold fields that fill more.
 * Safe from any thread once made.
 */
public final class FieldTree {
  private final String path;
  private final Map<String, Integer> columns = new HashMap<>();
  private final Map<String, FieldTree> groups = new HashMap<>();

  private FieldTree(String path) {
    this.path = path;
  }

  /** The fields that fill the columns of a row. */
  public static FieldTree of(Schema schema, Origins origins) {
    return of(schema, origins, "");
  }

  /** The same for an object inside a message; {@code path} is how it is shown, with a dot after. */
  static FieldTree of(Schema schema, Origins origins, String path) {
    FieldTree root = new FieldTree(path);
    for (int i = 0; i < schema.size(); i++) {
      if (!origins.meta().containsKey(i)) {
        List<String> steps = origins.path(i, schema);
        FieldTree at = root;
        for (String step : steps.subList(0, steps.size() - 1)) {
          FieldTree outer = at;
          at = at.groups.computeIfAbsent(step, s -> new FieldTree(outer.path + s + "."));
        }
        at.columns.put(steps.get(steps.size() - 1), i);
      }
    }
    return root;
  }

  /** The fields that a stream or table declares, as they are shown; those inside of ROWs too. */
  public static Set<String> paths(CatalogObject object) {
    Set<String> paths = new HashSet<>();
    Schema schema = object.schema();
    Origins origins = CatalogObject.originsOf(object);
    for (int i = 0; i < schema.size(); i++) {
      if (!origins.meta().containsKey(i)) {
        add(String.join(".", origins.path(i, schema)), schema.type(i), paths);
      }
    }
    return paths;
  }

  private static void add(String path, ColumnType type, Set<String> paths) {
    paths.add(path);
    if (type.kind() == ColumnType.Kind.ROW) {
      type.fields().forEach(f -> add(path + "." + f.name(), f.type(), paths));
    }
  }

  /** How the object is shown before the names of its fields; empty for the message itself. */
  String path() {
    return path;
  }

  Map<String, Integer> columns() {
    return columns;
  }

  Map<String, FieldTree> groups() {
    return groups;
  }

  /** The column a field fills, or −1. */
  int column(String field) {
    return columns.getOrDefault(field, -1);
  }

  /** The fields inside a field, or null if none of them fills a column. */
  FieldTree group(String field) {
    return groups.get(field);
  }
}
