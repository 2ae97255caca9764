package dripledger.connectors.format;

import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.source.Outgoing;
import java.util.Arrays;
import java.util.List;

/** Changes as records of their own: what was done, in which epoch, the row before and after. */
final class ChangeRecords {
  private ChangeRecords() {}

  /** What kind of change it is. */
  static String operation(Outgoing.Change change) {
    if (change.before() == null) {
      return "insert";
    }
    return change.after() != null ? "update" : change.expired() ? "expire" : "delete";
  }

  /** The columns of such a record of rows. */
  static List<Column> columns(List<Column> row) {
    ColumnType type = ColumnType.row(row).withNullable(true);
    return List.of(
        new Column("operation", ColumnType.varchar(-1).withNullable(false)),
        new Column("epoch", ColumnType.of(Kind.BIGINT).withNullable(false)),
        new Column("before", type),
        new Column("after", type));
  }

  /** The record of a change. */
  static Object[] record(Outgoing.Change change, long epoch) {
    return new Object[] {operation(change), epoch, list(change.before()), list(change.after())};
  }

  private static List<Object> list(Object[] row) {
    return row == null ? null : Arrays.asList(row);
  }
}
