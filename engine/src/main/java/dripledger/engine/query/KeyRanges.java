package dripledger.engine.query;

import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.view.RelationVersion;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * What a condition asks of the leading columns of a relation's key: equal to one value or to one of
 * several, and then, of the next column, a range or the beginning of a text. The rows outside of
 * these ranges do not meet the condition; those inside need not. Stateless.
 */
final class KeyRanges {
  private static final int MAX_RANGES = 1000;

  private KeyRanges() {}

  /**
   * Keys from one on and below another.
   *
   * @param values the whole key, boxed, if it is asked for; else null
   * @param from encoded, or null for the first
   * @param to encoded, or null for no end
   */
  record Range(Object[] values, byte[] from, byte[] to) {}

  /**
   * The ranges of a version's key, in its order.
   *
   * @return null if the condition says nothing of the first column of the key
   */
  static List<Range> of(Expr filter, RelationVersion version) {
    List<Expr> conditions = new ArrayList<>();
    conjunctions(filter, conditions);
    int[] key = version.key();
    List<Object[]> prefixes = new ArrayList<>(List.of(new Object[][] {new Object[0]}));
    int column = 0;
    while (column < key.length) {
      List<Object> values = equalTo(conditions, key[column], version);
      if (values == null || (long) values.size() * prefixes.size() > MAX_RANGES) {
        break;
      }
      prefixes = extended(prefixes, values);
      column++;
    }
    try {
      if (column == key.length && column > 0) {
        return prefixes.stream().map(p -> new Range(p, null, null)).toList();
      }
      List<Range> ranges = new ArrayList<>();
      boolean narrower = column > 0;
      for (Object[] prefix : prefixes) {
        Range range = range(conditions, key[column], prefix, version);
        narrower |= range.from != null || range.to != null;
        ranges.add(range);
      }
      ranges.sort((a, b) -> a.from == null ? 0 : Arrays.compareUnsigned(a.from, b.from));
      return narrower ? ranges : null;
    } catch (IllegalArgumentException e) {
      return null; // a value that does not fit its column
    }
  }

  private static void conjunctions(Expr filter, List<Expr> into) {
    if (filter instanceof Expr.Call call && call.operation() == Operation.AND) {
      call.operands().forEach(each -> conjunctions(each, into));
    } else if (filter != null) {
      into.add(filter);
    }
  }

  private static List<Object[]> extended(List<Object[]> prefixes, List<Object> values) {
    List<Object[]> longer = new ArrayList<>();
    for (Object[] prefix : prefixes) {
      for (Object value : values) {
        Object[] next = Arrays.copyOf(prefix, prefix.length + 1);
        next[prefix.length] = value;
        longer.add(next);
      }
    }
    return longer;
  }

  /** The values one of which a column must have, or null if no condition says so. */
  private static List<Object> equalTo(List<Expr> conditions, int column, RelationVersion version) {
    for (Expr condition : conditions) {
      List<Object> values = new ArrayList<>();
      if (alternatives(condition, column, version, values)) {
        return values.stream().distinct().toList();
      }
    }
    return null;
  }

  private static boolean alternatives(
      Expr condition, int column, RelationVersion version, List<Object> into) {
    if (!(condition instanceof Expr.Call call)) {
      return false;
    }
    if (call.operation() == Operation.OR) {
      return call.operands().stream().allMatch(o -> alternatives(o, column, version, into));
    }
    Object value =
        call.operation() == Operation.EQUAL ? compared(call, column, version, false) : null;
    value =
        value == null && call.operation() == Operation.EQUAL
            ? compared(call, column, version, true)
            : value;
    return value != null && into.add(value);
  }

  /**
   * The constant a column is compared with, as the column keeps it.
   *
   * @param turned whether the constant stands first
   */
  private static Object compared(
      Expr.Call call, int column, RelationVersion version, boolean turned) {
    Expr left = Expr.narrow(call.operand(turned ? 1 : 0));
    Expr right = call.operand(turned ? 0 : 1);
    if (!Expr.isColumn(left, column) || !(right instanceof Expr.Constant constant)) {
      return null;
    }
    ColumnType type = version.schema().type(column);
    Kind kind = constant.type().kind();
    Object value = constant.value();
    if (value instanceof Long number && type.kind().isInteger() && kind.isInteger()) {
      return type.kind().holds(number) ? number : null; // else no row is found by it
    }
    if (value instanceof Long micros && type.kind() == Kind.TIMESTAMP && kind == Kind.TIMESTAMP) {
      return BoxedRows.timestamp(micros);
    }
    boolean fits =
        value instanceof String text
            && type.kind() == Kind.VARCHAR
            && (type.precision() < 0 || text.codePointCount(0, text.length()) <= type.precision());
    return fits ? value : null;
  }

  private static Range range(
      List<Expr> conditions, int column, Object[] prefix, RelationVersion version) {
    byte[] leading = version.encodeKey(prefix);
    byte[] from = leading.length == 0 ? null : leading;
    byte[] to = leading.length == 0 ? null : RelationVersion.successor(leading);
    for (Expr condition : conditions) {
      if (!(condition instanceof Expr.Call call)) {
        continue;
      }
      if (call.operation() == Operation.LIKE) {
        String text = beginning(call, column);
        if (text != null) {
          byte[] first = version.encodeTextPrefix(leading, prefix.length, text);
          from = later(from, first);
          to = sooner(to, RelationVersion.successor(first));
        }
        continue;
      }
      for (boolean turned : new boolean[] {false, true}) {
        Object value = call.operands().size() == 2 ? compared(call, column, version, turned) : null;
        Operation operation = turned ? turned(call.operation()) : call.operation();
        if (value == null) {
          continue;
        }
        Object[] bound = Arrays.copyOf(prefix, prefix.length + 1);
        bound[prefix.length] = value;
        byte[] encoded = version.encodeKey(bound);
        switch (operation) {
          case GREATER -> from = later(from, RelationVersion.successor(encoded));
          case GREATER_OR_EQUAL -> from = later(from, encoded);
          case LESS -> to = sooner(to, encoded);
          case LESS_OR_EQUAL -> to = sooner(to, RelationVersion.successor(encoded));
          default -> {
            // says nothing of a range
          }
        }
      }
    }
    return new Range(null, from, to);
  }

  private static Operation turned(Operation operation) {
    return switch (operation) {
      case GREATER -> Operation.LESS;
      case GREATER_OR_EQUAL -> Operation.LESS_OR_EQUAL;
      case LESS -> Operation.GREATER;
      case LESS_OR_EQUAL -> Operation.GREATER_OR_EQUAL;
      default -> operation;
    };
  }

  /** The text that a column must begin with, or null. */
  private static String beginning(Expr.Call like, int column) {
    if (like.operands().size() != 2
        || !Expr.isColumn(like.operand(0), column)
        || !(like.operand(1) instanceof Expr.Constant pattern)
        || !(pattern.value() instanceof String text)) {
      return null;
    }
    int end = 0;
    while (end < text.length() && "%_\\".indexOf(text.charAt(end)) < 0) {
      end++;
    }
    return end == 0 ? null : text.substring(0, end);
  }

  private static byte[] later(byte[] a, byte[] b) {
    return a == null || b != null && Arrays.compareUnsigned(a, b) < 0 ? b : a;
  }

  private static byte[] sooner(byte[] a, byte[] b) {
    return a == null || b != null && Arrays.compareUnsigned(a, b) > 0 ? b : a;
  }
}
