package dripledger.engine.plan;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.stream.Collectors;

/** Writes a plan for people: one line a node, the inputs indented below it. Pure. */
public final class PlanPrinter {
  private PlanPrinter() {}

  /**
   * One line of EXPLAIN.
   *
   * @param step the node, indented by its depth
   * @param state what it keeps
   * @param bound what bounds that state, or that nothing does
   */
  public record Line(PlanNode node, String step, String state, String bound) {}

  public static List<Line> print(PlanNode root) {
    List<Line> lines = new ArrayList<>();
    print(root, 0, lines);
    return lines;
  }

  /** One step alone. */
  public static String step(PlanNode node) {
    return line(node, "").step();
  }

  private static void print(PlanNode node, int depth, List<Line> lines) {
    String indent = "  ".repeat(depth);
    lines.add(line(node, indent));
    for (PlanNode input : node.inputs()) {
      print(input, depth + 1, lines);
    }
  }

  private static Line line(PlanNode node, String indent) {
    if (node instanceof PlanNode.Source s) {
      String kind = s.appendOnly() ? " (append-only)" : " (rows come and go)";
      return new Line(s, indent + "read " + s.name() + kind, "none", "");
    }
    if (node instanceof PlanNode.Values v) {
      return new Line(v, indent + "values: " + v.rows().size() + " rows", "none", "");
    }
    if (node instanceof PlanNode.Transform t) {
      return new Line(t, indent + transform(t), "none", "");
    }
    if (node instanceof PlanNode.Aggregate a) {
      return aggregate(a, indent);
    }
    return new Line(node, indent + "union all", "none", "");
  }

  private static String transform(PlanNode.Transform t) {
    List<String> parts = new ArrayList<>();
    if (t.filter() != null) {
      parts.add("filter " + t.filter());
    }
    if (!t.projections().isEmpty()) {
      parts.add("compute " + String.join(", ", t.projections()));
    }
    return parts.isEmpty() ? "pass on" : String.join("; ", parts);
  }

  private static Line aggregate(PlanNode.Aggregate a, String indent) {
    Schema in = a.input().schema();
    String groups =
        Arrays.stream(a.groupColumns())
            .mapToObj(i -> in.column(i).name())
            .collect(Collectors.joining(", "));
    if (a.calls().isEmpty()) {
      return new Line(
          a, indent + "distinct " + groups, "a count per distinct row", "distinct rows: no bound");
    }
    String calls = a.calls().stream().map(c -> c.text(in)).collect(Collectors.joining(", "));
    boolean all =
        !a.input().appendOnly() && a.calls().stream().anyMatch(c -> c.function().isExtreme());
    boolean distinct = a.calls().stream().anyMatch(AggregateCall::distinct);
    String state =
        "one entry per group"
            + (all ? ", and every value of MIN and MAX in order" : "")
            + (distinct ? ", and every distinct value" : "");
    return new Line(
        a,
        indent + "aggregate " + calls + (groups.isEmpty() ? "" : " by " + groups),
        state,
        groups.isEmpty() ? "one group" : "groups: no bound");
  }
}
