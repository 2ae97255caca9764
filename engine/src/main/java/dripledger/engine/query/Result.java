package dripledger.engine.query;

import dripledger.engine.row.Column;
import java.util.List;

/** The answer to one statement. */
public sealed interface Result {
  /** The epoch the answer was read from, or that shows what the statement did. */
  long epoch();

  /**
   * Rows as boxed values in column order (see {@code BoxedRows} for the classes).
   *
   * @param note a sentence about them, or null
   */
  record Rows(List<Column> columns, List<Object[]> rows, long epoch, String note)
      implements Result {
    public Rows(List<Column> columns, List<Object[]> rows, long epoch) {
      this(columns, rows, epoch, null);
    }
  }

  /**
   * Something was done; the message says what.
   *
   * @param rows of a table that were inserted, updated or deleted; −1 if it was something else
   */
  record Done(String message, long epoch, long rows) implements Result {
    public Done(String message, long epoch) {
      this(message, epoch, -1);
    }
  }
}
