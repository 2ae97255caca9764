package dripledger.engine.query;

import dripledger.engine.row.Column;
import java.util.List;

/** Takes the rows of an answer one by one, on the thread that asked. */
public interface RowSink {
  /** Comes once, before the rows. */
  void columns(List<Column> columns);

  /** A row as boxed values in column order, which is the sink's from now on. */
  void row(Object[] row);
}
