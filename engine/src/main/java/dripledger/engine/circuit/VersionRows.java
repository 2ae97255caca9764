package dripledger.engine.circuit;

import dripledger.engine.plan.TableVersions;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;

/**
 * What the rows of a table have been: each change of it is a row, since the time that its mark says
 * (see {@link InputNode}). What was there before anything changed has always been so.
 *
 * <p>State: none.
 */
final class VersionRows implements Operator {
  /** Since when rows have been there that have no mark: the first moment there is. */
  static final long ALWAYS = Long.MIN_VALUE + 1;

  private final RowLayout table;
  private final Page out;
  private final Operator next;
  private final int port;

  VersionRows(TableVersions plan, Operator next, int port) {
    table = new RowLayout(plan.input().schema());
    out = new Page(new RowLayout(plan.schema()));
    this.next = next;
    this.port = port;
  }

  @Override
  public void push(int fromPort, Page delta) {
    for (int i = 0; i < delta.size(); i++) {
      RowWriter writer = out.begin();
      for (int c = 0; c < table.columns(); c++) {
        writer.copy(c, table, delta.bytes(), delta.start(i), c);
      }
      long mark = delta.mark(i);
      writer.setLong(table.columns(), mark == Page.UNMARKED ? ALWAYS : mark);
      writer.setLong(table.columns() + 1, i);
      writer.setBoolean(table.columns() + 2, delta.weight(i) < 0);
      out.commit(1);
    }
    next.push(port, out);
    out.clear();
  }
}
