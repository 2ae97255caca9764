package dripledger.engine.expr;

import com.fasterxml.jackson.databind.JsonNode;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import java.util.ArrayList;
import java.util.Iterator;
import java.util.List;
import java.util.function.LongUnaryOperator;

/**
 * Arrays made of other values: what PostgreSQL's functions that make rows are before they are taken
 * apart. All are strict and pure. An array has at most {@value #MOST} elements.
 */
public final class SeriesBuiltins {
  /** What fits a row. */
  static final int MOST = 60_000;

  private SeriesBuiltins() {}

  static byte[] array(List<String> texts) {
    check(texts.size());
    RowLayout layout = RowLayout.ofArray(ColumnType.varchar(-1), texts.size());
    RowWriter writer = ArrayBuiltins.begin(layout);
    for (int i = 0; i < texts.size(); i++) {
      if (texts.get(i) == null) {
        writer.setNull(i);
      } else {
        writer.setString(i, texts.get(i));
      }
    }
    return ArrayBuiltins.end(writer);
  }

  private static void check(long elements) {
    if (elements > MOST) {
      throw new Casts.CastException(
          "it would have " + elements + " elements; an array has at most " + MOST);
    }
  }

  private static byte[] array(long count, LongUnaryOperator element) {
    check(count);
    int header = (int) (count + 7) >>> 3;
    byte[] array = new byte[4 + header + 8 * (int) count];
    Bytes.putInt(array, 0, (int) count);
    for (int i = 0; i < count; i++) {
      Bytes.putLong(array, 4 + header + 8 * i, element.applyAsLong(i));
    }
    return array;
  }

  private static byte[] steps(long from, long to, long step) {
    if (step == 0) {
      throw new Casts.CastException("the step of a series must not be nothing");
    }
    boolean none = step > 0 ? from > to : from < to;
    long count = none ? 0 : Math.addExact(Math.subtractExact(to, from) / step, 1);
    return array(count, i -> from + i * step);
  }

  @Kinds(
      value = {Kind.BIGINT, Kind.BIGINT},
      result = Kind.ARRAY)
  public static byte[] series(long from, long to) {
    return steps(from, to, 1);
  }

  @Kinds(
      value = {Kind.BIGINT, Kind.BIGINT, Kind.BIGINT},
      result = Kind.ARRAY)
  public static byte[] series(long from, long to, long step) {
    return steps(from, to, step);
  }

  /** Of timestamps, in steps of the same length. */
  @Kinds(
      value = {Kind.TIMESTAMP, Kind.TIMESTAMP, Kind.INTERVAL_DAY_TIME},
      result = Kind.ARRAY)
  public static byte[] series_of_times(long from, long to, long step) {
    return steps(from, to, step);
  }

  /** Of timestamps, in steps of months, each counted from the one before. */
  @Kinds(
      value = {Kind.TIMESTAMP, Kind.TIMESTAMP, Kind.INTERVAL_YEAR_MONTH},
      result = Kind.ARRAY)
  public static byte[] series_of_months(long from, long to, long months) {
    if (months == 0) {
      throw new Casts.CastException("the step of a series must not be nothing");
    }
    List<Long> times = new ArrayList<>();
    for (long at = from;
        months > 0 ? at <= to : at >= to;
        at = TimeBuiltins.timestampPlusMonths(at, months)) {
      times.add(at);
      check(times.size());
    }
    return array(times.size(), i -> times.get((int) i));
  }

  @Kinds(
      value = {Kind.VARCHAR, Kind.VARCHAR},
      result = Kind.ARRAY)
  public static byte[] string_to_array(String text, String separator) {
    List<String> parts = new ArrayList<>();
    int from = 0;
    int at = separator.isEmpty() ? -1 : text.indexOf(separator);
    while (at >= 0) {
      parts.add(text.substring(from, at));
      from = at + separator.length();
      at = text.indexOf(separator, from);
    }
    if (!text.isEmpty()) {
      parts.add(text.substring(from));
    }
    return array(parts);
  }

  @Kinds(
      value = {Kind.VARCHAR, Kind.VARCHAR},
      result = Kind.ARRAY)
  public static byte[] regexp_split_to_array(String text, String pattern) {
    return array(PatternBuiltins.split(text, pattern));
  }

  private static Iterable<JsonNode> elements(String json) {
    JsonNode node = JsonTreeBuiltins.tree(json);
    if (!node.isArray()) {
      throw new Casts.CastException("not a JSON array");
    }
    return node;
  }

  @Kinds(value = Kind.VARCHAR, result = Kind.ARRAY)
  public static byte[] elements_of_json(String json) {
    List<String> texts = new ArrayList<>();
    elements(json).forEach(node -> texts.add(node.toString()));
    return array(texts);
  }

  @Kinds(value = Kind.VARCHAR, result = Kind.ARRAY)
  public static byte[] texts_of_json(String json) {
    List<String> texts = new ArrayList<>();
    elements(json).forEach(node -> texts.add(JsonTreeBuiltins.text(node)));
    return array(texts);
  }

  @Kinds(value = Kind.VARCHAR, result = Kind.ARRAY)
  public static byte[] keys_of_json(String json) {
    JsonNode node = JsonTreeBuiltins.tree(json);
    if (!node.isObject()) {
      throw new Casts.CastException("not a JSON object");
    }
    List<String> names = new ArrayList<>();
    Iterator<String> each = node.fieldNames();
    each.forEachRemaining(names::add);
    return array(names);
  }
}
