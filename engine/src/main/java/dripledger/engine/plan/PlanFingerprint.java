package dripledger.engine.plan;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.row.Column;
import dripledger.engine.row.Schema;
import java.util.Arrays;
import java.util.stream.Collectors;

/**
 * What operator state depends on besides the definition, which never changes under one number: the
 * shape of the plan, and which rows its state holds in which form. Names and the text of
 * expressions are no part of it, so a better plan printer leaves saved state as it is. Stateless.
 */
public final class PlanFingerprint {
  /** To be raised when an expression or operator of the same shape comes to mean something else. */
  private static final int MEANING = 1;

  private PlanFingerprint() {}

  public static String of(PlanNode root) {
    StringBuilder out = new StringBuilder("meaning ").append(MEANING).append('\n');
    write(root, 0, out);
    return out.toString();
  }

  private static void write(PlanNode node, int depth, StringBuilder out) {
    out.append("  ".repeat(depth));
    if (node instanceof PlanNode.Source s) {
      // A relation may get more columns; what reads it keeps to those it knows.
      out.append("read ").append(s.relationId());
    } else if (node instanceof PlanNode.Values v) {
      out.append("values ").append(v.rows().size()).append(types(v.schema()));
    } else if (node instanceof PlanNode.Transform t) {
      out.append("transform ").append(types(t.schema()));
    } else if (node instanceof PlanNode.Aggregate a) {
      out.append("aggregate ")
          .append(a.input().appendOnly() ? "events" : "rows")
          .append(" by ")
          .append(Arrays.toString(a.groupColumns()))
          .append(a.calls().stream().map(PlanFingerprint::call).toList());
    } else {
      out.append("union").append(types(node.schema()));
    }
    out.append('\n');
    node.inputs().forEach(input -> write(input, depth + 1, out));
  }

  private static String types(Schema schema) {
    return schema.columns().stream()
        .map(Column::type)
        .map(String::valueOf)
        .collect(Collectors.joining(", ", "(", ")"));
  }

  private static String call(AggregateCall call) {
    return call.function()
        + Arrays.toString(call.arguments())
        + (call.distinct() ? " distinct" : "")
        + (call.filterColumn() >= 0 ? " filter " + call.filterColumn() : "")
        + " "
        + call.output().type();
  }
}
