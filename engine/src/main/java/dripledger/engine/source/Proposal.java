package dripledger.engine.source;

import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType.Kind;
import java.util.ArrayList;
import java.util.HashSet;
import java.util.List;
import java.util.Set;

/**
 * Columns read off a sample, to be edited or taken as they are.
 *
 * @param columns in the order they were met
 * @param eventTime the column that looks like the time of the event, or null
 * @param key the columns that look like a key; may be empty
 * @param sampled messages looked at
 * @param unread messages of them that could not be read at all
 */
public record Proposal(
    List<Proposed> columns, String eventTime, List<String> key, int sampled, int unread) {
  /**
   * One column.
   *
   * @param path the names on the way to its field, or null for the field of its own name
   * @param example a value as it stands in a message, or null
   * @param missing messages of the sample without it
   * @param conflict what does not agree, with examples; null if all do
   * @param fields the same of the fields of a ROW; else empty
   */
  public record Proposed(
      Column column,
      List<String> path,
      String example,
      int missing,
      String conflict,
      List<Proposed> fields) {
    /** A column of the field of its own name, of which no sample is known. */
    public static Proposed unseen(Column column) {
      return new Proposed(column, null, null, 0, null, List.of());
    }

    /** The same as it was seen, of the type that a schema says. */
    private Proposed declared(Column declared) {
      List<Proposed> inside =
          declared.type().kind() == Kind.ROW ? known(declared.type().fields(), fields) : List.of();
      return new Proposed(declared, null, example, missing, null, inside);
    }
  }

  private static List<Proposed> known(List<Column> declared, List<Proposed> seen) {
    return declared.stream()
        .map(
            column ->
                seen.stream()
                    .filter(p -> p.column().name().equals(column.name()))
                    .findFirst()
                    .orElse(Proposed.unseen(column))
                    .declared(column))
        .toList();
  }

  /**
   * With the columns that the messages' own schema says in place of those the sample looks like.
   *
   * @param declared null if there is no such schema
   */
  public Proposal withColumns(List<Column> declared) {
    return declared == null ? this : with(known(declared, columns));
  }

  /**
   * With a column for each field inside of ROWs in the place of those, named by the way to it:
   * {@code scanner_id} for {@code scanner.id}.
   */
  public Proposal flattened() {
    List<Proposed> flat = new ArrayList<>();
    Set<String> names = new HashSet<>();
    columns.stream().filter(c -> c.fields().isEmpty()).forEach(c -> names.add(c.column().name()));
    for (Proposed column : columns) {
      flatten(column, List.of(column.column().name()), names, flat);
    }
    return with(flat);
  }

  private static void flatten(
      Proposed proposed, List<String> path, Set<String> names, List<Proposed> into) {
    if (proposed.fields().isEmpty()) {
      into.add(path.size() == 1 ? proposed : inside(proposed, path, names));
      return;
    }
    for (Proposed field : proposed.fields()) {
      List<String> longer = new ArrayList<>(path);
      longer.add(field.column().name());
      flatten(field, longer, names, into);
    }
  }

  private static Proposed inside(Proposed proposed, List<String> path, Set<String> names) {
    String name = String.join("_", path);
    while (!names.add(name)) {
      name += "_";
    }
    return new Proposed(
        new Column(name, proposed.column().type()),
        path,
        proposed.example(),
        proposed.missing(),
        proposed.conflict(),
        List.of());
  }

  /** With other columns; the event time stays if it is among them. */
  private Proposal with(List<Proposed> other) {
    List<String> times =
        other.stream()
            .filter(p -> p.column().type().kind() == Kind.TIMESTAMP)
            .map(p -> p.column().name())
            .toList();
    String time = times.contains(eventTime) ? eventTime : times.isEmpty() ? null : times.get(0);
    return new Proposal(other, time, key, sampled, unread);
  }
}
