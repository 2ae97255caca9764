package dripledger.connectors.infer;

import dripledger.connectors.format.Formats;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.source.Proposal;
import java.math.BigDecimal;
import java.time.LocalDate;
import java.time.LocalDateTime;
import java.time.LocalTime;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.EnumMap;
import java.util.HashSet;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.regex.Pattern;
import java.util.stream.Collectors;

/**
 * Reads columns off a sample of messages. For each field it counts the kinds of values; the kind
 * that nearly all have is the type, and what does not agree is told with an example. A field that
 * no message lacks is NOT NULL. Not thread-safe.
 */
public final class Inference {
  /** A kind may be left to the rejects if it is not in more than one of this many values. */
  private static final int RARE = 20;

  private static final int MAX_FIELDS = 60;
  private static final int ENOUGH_FOR_NOT_NULL = 20;
  private static final Pattern TIMESTAMP =
      Pattern.compile(
          "\\d{4}-\\d\\d-\\d\\d[T ]\\d\\d:\\d\\d(:\\d\\d(\\.\\d{1,9})?)?(Z|[+-]\\d\\d:?\\d\\d)?");
  private static final Pattern DATE = Pattern.compile("\\d{4}-\\d\\d-\\d\\d");
  private static final Pattern WHOLE = Pattern.compile("-?(0|[1-9]\\d{0,17})");
  private static final Pattern NUMBER = Pattern.compile("-?(0|[1-9]\\d*)\\.\\d+");
  private static final List<String> TIME_NAMES =
      List.of("at", "event_time", "time", "timestamp", "ts", "occurred_at", "created_at");
  private static final List<String> KEY_NAMES = List.of("id", "key", "uuid");

  private final boolean typedText;
  private final Shape root = new Shape();
  private final Map<String, Set<Object>> distinct = new LinkedHashMap<>();
  private final Map<String, Boolean> equalsKey = new LinkedHashMap<>();
  private int messages;
  private int unread;

  /** What kinds of values a field has. */
  private enum Seen {
    BOOLEAN,
    WHOLE,
    NUMBER,
    DECIMAL,
    TIMESTAMP,
    DATE,
    TIME,
    TEXT,
    BYTES,
    OBJECT,
    LIST
  }

  private static final class Shape {
    final Map<Seen, Integer> counts = new EnumMap<>(Seen.class);
    final Map<Seen, String> examples = new EnumMap<>(Seen.class);
    final Map<String, Shape> fields = new LinkedHashMap<>();
    Shape elements;
    int present;
    int scale;
    int digits;
  }

  /**
   * @param typedText whether every value is text (CSV), so that text which looks like a number is
   *     one
   */
  public Inference(boolean typedText) {
    this.typedText = typedText;
  }

  /** Takes in one message; {@code key} is its key as text, or null. */
  public void add(Map<String, Object> message, String key) {
    messages++;
    note(message, root);
    message.forEach(
        (field, value) -> {
          if (value != null) {
            distinct.computeIfAbsent(field, f -> new HashSet<>()).add(value);
            boolean same = key != null && key.equals(String.valueOf(value));
            equalsKey.merge(field, same, Boolean::logicalAnd);
          }
        });
  }

  /** Counts a message that could not be read. */
  public void unread() {
    unread++;
  }

  private void note(Object value, Shape shape) {
    if (value == null) {
      return;
    }
    shape.present++;
    Seen seen = seen(value, shape);
    shape.counts.merge(seen, 1, Integer::sum);
    String text = Formats.text(value);
    shape.examples.putIfAbsent(seen, text.length() > 60 ? text.substring(0, 60) + "…" : text);
    if (value instanceof Map<?, ?> map) {
      map.forEach(
          (name, field) ->
              note(field, shape.fields.computeIfAbsent((String) name, n -> new Shape())));
    } else if (value instanceof List<?> list) {
      if (shape.elements == null) {
        shape.elements = new Shape();
      }
      list.forEach(element -> note(element, shape.elements));
    }
  }

  private Seen seen(Object value, Shape shape) {
    if (value instanceof String text) {
      if (TIMESTAMP.matcher(text).matches()) {
        return Seen.TIMESTAMP;
      }
      if (DATE.matcher(text).matches()) {
        return Seen.DATE;
      }
      if (typedText && WHOLE.matcher(text).matches()) {
        return Seen.WHOLE;
      }
      if (NUMBER.matcher(text).matches()) {
        noteDigits(new BigDecimal(text), shape);
        return Seen.DECIMAL;
      }
      boolean truth = text.equals("true") || text.equals("false");
      return typedText && truth ? Seen.BOOLEAN : Seen.TEXT;
    }
    if (value instanceof Boolean) {
      return Seen.BOOLEAN;
    }
    if (value instanceof Long || value instanceof Integer) {
      return Seen.WHOLE;
    }
    if (value instanceof Number) {
      return Seen.NUMBER;
    }
    if (value instanceof LocalDateTime) {
      return Seen.TIMESTAMP;
    }
    if (value instanceof LocalDate) {
      return Seen.DATE;
    }
    if (value instanceof LocalTime) {
      return Seen.TIME;
    }
    return value instanceof Map
        ? Seen.OBJECT
        : value instanceof List ? Seen.LIST : value instanceof byte[] ? Seen.BYTES : Seen.TEXT;
  }

  private static void noteDigits(BigDecimal value, Shape shape) {
    shape.scale = Math.max(shape.scale, value.scale());
    shape.digits = Math.max(shape.digits, value.precision() - value.scale());
  }

  /** What the sample says. */
  public Proposal proposal(boolean keyed) {
    List<Proposal.Proposed> columns =
        proposed(root).stream()
            .map(p -> p.missing() == 0 && messages >= ENOUGH_FOR_NOT_NULL ? notNull(p) : p)
            .toList();
    return new Proposal(
        columns,
        keyed ? null : eventTime(columns),
        keyed ? key(columns) : List.of(),
        messages + unread,
        unread);
  }

  private List<Proposal.Proposed> proposed(Shape object) {
    List<Proposal.Proposed> columns = new ArrayList<>();
    object.fields.forEach(
        (name, shape) -> {
          ColumnType type = type(shape);
          columns.add(
              new Proposal.Proposed(
                  new Column(name, type.withNullable(true)),
                  null,
                  shape.examples.get(main(shape)),
                  messages - shape.present,
                  conflict(shape),
                  type.kind() == Kind.ROW ? proposed(shape) : List.of()));
        });
    return columns;
  }

  private static Proposal.Proposed notNull(Proposal.Proposed p) {
    Column column = new Column(p.column().name(), p.column().type().notNull());
    return new Proposal.Proposed(column, null, p.example(), p.missing(), p.conflict(), p.fields());
  }

  /** The kind that decides the type: the one nearly all values have, or text. */
  private static Seen main(Shape shape) {
    Map<Seen, Integer> counts = new EnumMap<>(shape.counts);
    if (counts.containsKey(Seen.NUMBER) && counts.containsKey(Seen.WHOLE)) {
      counts.merge(Seen.NUMBER, counts.remove(Seen.WHOLE), Integer::sum);
    }
    if (counts.containsKey(Seen.DECIMAL) && counts.containsKey(Seen.WHOLE)) {
      counts.merge(Seen.DECIMAL, counts.remove(Seen.WHOLE), Integer::sum);
    }
    if (counts.containsKey(Seen.TIMESTAMP) && counts.containsKey(Seen.DATE)) {
      counts.merge(Seen.TIMESTAMP, counts.remove(Seen.DATE), Integer::sum);
    }
    return counts.entrySet().stream()
        .filter(e -> e.getValue() * RARE >= shape.present * (RARE - 1))
        .map(Map.Entry::getKey)
        .findFirst()
        .orElse(Seen.TEXT);
  }

  private ColumnType type(Shape shape) {
    return switch (main(shape)) {
      case BOOLEAN -> ColumnType.of(Kind.BOOLEAN);
      case WHOLE -> ColumnType.of(Kind.BIGINT);
      case NUMBER -> ColumnType.of(Kind.DOUBLE);
      case DECIMAL -> {
        int scale = Math.min(18, Math.max(2, shape.scale));
        yield ColumnType.decimal(Math.min(38, Math.max(18, shape.digits + scale)), scale);
      }
      case TIMESTAMP -> ColumnType.of(Kind.TIMESTAMP);
      case DATE -> ColumnType.of(Kind.DATE);
      case TIME -> ColumnType.of(Kind.TIME);
      case BYTES -> ColumnType.of(Kind.VARBINARY);
      case TEXT -> ColumnType.varchar(-1);
      case OBJECT -> {
        // An object of ever new names is a dictionary, not a row.
        boolean row = !shape.fields.isEmpty() && shape.fields.size() <= MAX_FIELDS;
        yield row
            ? ColumnType.row(
                shape.fields.entrySet().stream()
                    .map(f -> new Column(f.getKey(), type(f.getValue())))
                    .toList())
            : ColumnType.varchar(-1);
      }
      case LIST ->
          shape.elements == null || shape.elements.present == 0
              ? ColumnType.varchar(-1)
              : ColumnType.array(type(shape.elements));
    };
  }

  private static String conflict(Shape shape) {
    Seen main = main(shape);
    List<String> others = new ArrayList<>();
    shape.counts.forEach(
        (seen, count) -> {
          boolean agrees =
              seen == main
                  || seen == Seen.WHOLE && (main == Seen.NUMBER || main == Seen.DECIMAL)
                  || seen == Seen.DATE && main == Seen.TIMESTAMP;
          if (!agrees) {
            others.add(
                word(seen) + " in " + count + ", such as \"" + shape.examples.get(seen) + "\"");
          }
        });
    if (others.isEmpty()) {
      return null;
    }
    int agreeing = shape.counts.getOrDefault(main, 0);
    return (agreeing > 0 ? word(main) + " in " + agreeing + ", but " : "")
        + others.stream().collect(Collectors.joining("; "));
  }

  private static String word(Seen seen) {
    return switch (seen) {
      case WHOLE -> "a whole number";
      case NUMBER, DECIMAL -> "a number";
      case TEXT -> "text";
      case OBJECT -> "an object";
      case LIST -> "a list";
      default -> "a " + seen.name().toLowerCase(java.util.Locale.ROOT);
    };
  }

  private static String eventTime(List<Proposal.Proposed> columns) {
    List<String> times =
        columns.stream()
            .filter(c -> c.column().type().kind() == Kind.TIMESTAMP)
            .map(c -> c.column().name())
            .toList();
    for (String wanted : TIME_NAMES) {
      if (times.contains(wanted)) {
        return wanted;
      }
    }
    return times.isEmpty() ? null : times.get(0);
  }

  /** The field that is the message's key; else one that looks like a key and never repeats. */
  private List<String> key(List<Proposal.Proposed> columns) {
    List<String> names = columns.stream().map(c -> c.column().name()).toList();
    for (String name : names) {
      if (equalsKey.getOrDefault(name, false) && missing(columns, name) == 0) {
        return List.of(name);
      }
    }
    for (String name : names) {
      String lower = name.toLowerCase(java.util.Locale.ROOT);
      boolean looks =
          KEY_NAMES.contains(lower) || Arrays.stream(lower.split("_")).anyMatch("id"::equals);
      if (looks && missing(columns, name) == 0 && distinct.get(name).size() == messages) {
        return List.of(name);
      }
    }
    return List.of();
  }

  private static int missing(List<Proposal.Proposed> columns, String name) {
    return columns.stream()
        .filter(c -> c.column().name().equals(name))
        .findFirst()
        .orElseThrow()
        .missing();
  }
}
