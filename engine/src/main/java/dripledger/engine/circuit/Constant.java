package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import java.util.List;

/** VALUES: its rows, once. */
record Constant(PlanNode.Values plan, Operator next, int port) implements Operator {
  @Override
  public void start() {
    Page page = new Page(new RowLayout(plan.schema()));
    for (List<Object> row : plan.rows()) {
      BoxedRows.write(page.begin(), row.toArray());
      page.commit(1);
    }
    next.push(port, page);
  }

  @Override
  public void push(int fromPort, Page delta) {
    throw new IllegalStateException("VALUES has no input");
  }
}
