package dripledger.engine.sql;

import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.util.ArrayList;
import java.util.Collections;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;

/**
 * Of what types the values of a statement's parameters are, so that a plan that was made for some
 * values is good for others of the same types. Those that are NULL, or not given at all, are part
 * of it: they make another plan. Immutable; two are equal if one plan does for both.
 *
 * @param byName a type; or an {@link Argument} that is NULL, or {@link Argument#ABSENT}
 */
public record ArgumentKinds(Map<String, Object> byName) {
  private static final ArgumentKinds NONE = new ArgumentKinds(Map.of());

  public ArgumentKinds {
    byName = Collections.unmodifiableMap(new TreeMap<>(byName));
  }

  /**
   * The types of values.
   *
   * @return null if there is one whose type depends on the value
   */
  public static ArgumentKinds of(Map<String, Object> arguments) {
    if (arguments.isEmpty()) {
      return NONE;
    }
    Map<String, Object> kinds = new HashMap<>();
    for (Map.Entry<String, Object> e : arguments.entrySet()) {
      Object kind = kind(e.getValue());
      if (kind == null) {
        return null;
      }
      kinds.put(e.getKey(), kind);
    }
    return new ArgumentKinds(kinds);
  }

  /** As above, of parameters whose types are all that is known, and that will not be NULL. */
  public static ArgumentKinds ofTypes(Map<String, ColumnType> types) {
    return types.values().stream().allMatch(ArgumentKinds::isOpen)
        ? new ArgumentKinds(new HashMap<>(types))
        : null;
  }

  private static Object kind(Object given) {
    if (given == Argument.ABSENT) {
      return given;
    }
    if (given instanceof Argument a) {
      return a.value() == null ? a : isOpen(a.type()) ? a.type() : null;
    }
    if (given instanceof String) {
      return ColumnType.of(Kind.VARCHAR);
    }
    if (given instanceof Boolean) {
      return ColumnType.of(Kind.BOOLEAN);
    }
    if (given instanceof Integer || given instanceof Long) { // as a number is that is written
      long number = ((Number) given).longValue();
      return ColumnType.of(number == (int) number ? Kind.INTEGER : Kind.BIGINT);
    }
    return null;
  }

  private static boolean isOpen(ColumnType type) {
    return switch (type.kind()) {
      case BOOLEAN, SMALLINT, INTEGER, BIGINT, REAL, DOUBLE, VARCHAR, DATE, TIME, TIMESTAMP -> true;
      default -> false;
    };
  }

  /** The parameters whose values are not known yet, in the order of their numbers. */
  List<String> open() {
    List<String> open = new ArrayList<>();
    byName.forEach(
        (name, kind) -> {
          if (kind instanceof ColumnType) {
            open.add(name);
          }
        });
    return open;
  }

  /** What a statement is planned with before they are known. */
  Map<String, Object> standIns() {
    Map<String, Object> all = new HashMap<>(byName);
    List<String> open = open();
    for (int i = 0; i < open.size(); i++) {
      String name = open.get(i);
      all.put(name, new Argument.Open(i, (ColumnType) byName.get(name)));
    }
    return all;
  }
}
