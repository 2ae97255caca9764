package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;

/** Each row as often as its last column says: d(w · (r, n)) = w·n · r. Without state. */
final class Repeat implements Operator {
  private final RowLayout input;
  private final Page out;
  private final Operator next;
  private final int port;

  Repeat(PlanNode.Repeat plan, Operator next, int port) {
    input = new RowLayout(plan.input().schema());
    out = new Page(new RowLayout(plan.schema()));
    this.next = next;
    this.port = port;
  }

  @Override
  public void push(int fromPort, Page delta) {
    int last = input.columns() - 1;
    for (int i = 0; i < delta.size(); i++) {
      byte[] bytes = delta.bytes();
      int row = delta.start(i);
      RowWriter writer = out.begin();
      for (int c = 0; c < last; c++) {
        writer.copy(c, input, bytes, row, c);
      }
      out.commit(delta.weight(i) * input.slot(bytes, row, last));
    }
    next.push(port, out);
    out.clear();
  }
}
