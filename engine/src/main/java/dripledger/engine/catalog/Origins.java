package dripledger.engine.catalog;

import dripledger.engine.catalog.CatalogObject.Meta;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import java.util.stream.Collectors;

/**
 * Where the values of columns come from, by column index, if not from the message's field of the
 * column's own name. Immutable.
 *
 * @param meta columns that the transport fills
 * @param paths columns filled from a field inside of others: the names on the way to it
 */
public record Origins(Map<Integer, Meta> meta, Map<Integer, List<String>> paths) {
  /** All columns are fields of the message. */
  public static final Origins NONE = new Origins(Map.of(), Map.of());

  /** How a path is written, for the user. */
  public static final String PATH_HINT = "a path is names after dots, such as '$.scanner.id'";

  private static final Pattern STEP =
      Pattern.compile("\\.(?:([\\p{L}_][\\p{L}\\p{N}_]*)|\"((?:[^\"\\\\]|\\\\.)+)\")");
  private static final Pattern PLAIN = Pattern.compile("[\\p{L}_][\\p{L}\\p{N}_]*");

  public Origins {
    meta = Map.copyOf(meta);
    paths = Map.copyOf(paths);
  }

  /** The names on the way from the message to a column's field. */
  public List<String> path(int column, Schema schema) {
    return paths.getOrDefault(column, List.of(schema.column(column).name()));
  }

  /** With the origin of one column more; what is null is not set. */
  public Origins with(int column, Meta columnMeta, List<String> path) {
    Map<Integer, Meta> moreMeta = new HashMap<>(meta);
    Map<Integer, List<String>> morePaths = new HashMap<>(paths);
    if (columnMeta != null) {
      moreMeta.put(column, columnMeta);
    }
    if (path != null) {
      morePaths.put(column, path);
    }
    return new Origins(moreMeta, morePaths);
  }

  /**
   * Reads a path of the SQL/JSON path language (ISO 9075-2) that only goes through members of
   * objects: {@code $.scanner.id}, {@code $."Scanner Id"}.
   *
   * @throws IllegalArgumentException if it is anything else
   */
  public static List<String> parse(String text) {
    String path = text.strip().replaceFirst("^lax\\s+", "");
    List<String> steps = new ArrayList<>();
    Matcher step = STEP.matcher(path);
    int at = 1;
    while (path.startsWith("$") && step.find(at) && step.start() == at) {
      steps.add(step.group(1) != null ? step.group(1) : step.group(2).replaceAll("\\\\(.)", "$1"));
      at = step.end();
    }
    if (steps.isEmpty() || at < path.length()) {
      throw new IllegalArgumentException("'" + text + "' is not a path to a field");
    }
    return steps;
  }

  /** A path as it is written. */
  public static String text(List<String> path) {
    return path.stream()
        .map(
            step ->
                PLAIN.matcher(step).matches()
                    ? "." + step
                    : ".\"" + step.replaceAll("[\"\\\\]", "\\\\$0") + '"')
        .collect(Collectors.joining("", "$", ""));
  }

  /**
   * The first column whose field holds, or is, the field of another; the two cannot both be read.
   *
   * @return the two columns, or null
   */
  public int[] overlap(Schema schema) {
    for (int a : paths.keySet()) {
      for (int b = 0; b < schema.size(); b++) {
        List<String> other = path(b, schema);
        List<String> path = paths.get(a);
        boolean within = path.size() >= other.size() && path.subList(0, other.size()).equals(other);
        if (a != b && !meta.containsKey(b) && within) {
          return new int[] {a, b};
        }
      }
    }
    return null;
  }
}
