package dripledger.engine.source;

import dripledger.engine.row.Column;
import java.util.List;

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
   * @param example a value as it stands in a message, or null
   * @param missing messages of the sample without it
   * @param conflict what does not agree, with examples; null if all do
   */
  public record Proposed(Column column, String example, int missing, String conflict) {}

  /**
   * With the columns that the messages' own schema says in place of those the sample looks like.
   *
   * @param declared null if there is no such schema
   */
  public Proposal withColumns(List<Column> declared) {
    if (declared == null) {
      return this;
    }
    List<Proposed> known = new java.util.ArrayList<>();
    for (Column column : declared) {
      Proposed seen =
          columns.stream()
              .filter(p -> p.column().name().equals(column.name()))
              .findFirst()
              .orElse(new Proposed(column, null, 0, null));
      known.add(new Proposed(column, seen.example(), seen.missing(), null));
    }
    boolean timed =
        declared.stream()
            .anyMatch(
                c ->
                    c.name().equals(eventTime)
                        && c.type().kind() == dripledger.engine.row.ColumnType.Kind.TIMESTAMP);
    String time =
        timed
            ? eventTime
            : declared.stream()
                .filter(c -> c.type().kind() == dripledger.engine.row.ColumnType.Kind.TIMESTAMP)
                .map(Column::name)
                .findFirst()
                .orElse(null);
    return new Proposal(known, time, key, sampled, unread);
  }
}
