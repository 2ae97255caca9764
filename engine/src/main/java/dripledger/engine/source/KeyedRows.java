package dripledger.engine.source;

import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.List;

/**
 * How a source tells the changes of a keyed table: a page of operations in the order they happened.
 * A row of such a page has the table's columns, all nullable, then what to do ({@link #PUT} …) and
 * which columns to keep as they are.
 */
public final class KeyedRows {
  /** The row with this key is now this. */
  public static final int PUT = 0;

  /** The row with this key is gone; only the key columns are set. */
  public static final int DELETE = 1;

  /** As PUT, where what is kept comes from the row that the operation before this one deleted. */
  public static final int PUT_MOVED = 2;

  /** All rows are gone. */
  public static final int CLEAR = 3;

  private KeyedRows() {}

  /** The schema of a page of operations. */
  public static Schema schema(Schema table) {
    List<Column> columns = new ArrayList<>();
    for (Column c : table.columns()) {
      columns.add(new Column(c.name(), c.type().withNullable(true)));
    }
    columns.add(new Column("$do", ColumnType.of(Kind.INTEGER).notNull()));
    columns.add(new Column("$keep", ColumnType.of(Kind.VARBINARY)));
    return new Schema(columns);
  }

  /** The column that says what to do. */
  public static int doColumn(Schema table) {
    return table.size();
  }

  /**
   * The column that says what to keep: NULL, or a byte a column of the table, 1 for those whose
   * value was not sent because it has not changed.
   */
  public static int keepColumn(Schema table) {
    return table.size() + 1;
  }
}
