package dripledger.engine.plan;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.ExprText;
import dripledger.engine.expr.Operation;
import dripledger.engine.pattern.RowPattern;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import dripledger.engine.time.Spans;
import java.util.ArrayList;
import java.util.IdentityHashMap;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.function.UnaryOperator;
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
    return print(root, join -> join);
  }

  /**
   * A plan as the graph runs it.
   *
   * @param run what a join has become there, or null if it keeps the rows of both inputs
   */
  public static List<Line> print(PlanNode root, UnaryOperator<PlanNode.Join> run) {
    List<Line> lines = new ArrayList<>();
    print(root, 0, new IdentityHashMap<>(), run, lines);
    return lines;
  }

  /** One step alone. */
  public static String step(PlanNode node) {
    return node.accept(new Writer("", join -> join)).step();
  }

  /**
   * @param ways what is looked up in and not read, and by what
   */
  private static void print(
      PlanNode node,
      int depth,
      Map<PlanNode, String> ways,
      UnaryOperator<PlanNode.Join> run,
      List<Line> lines) {
    String indent = "  ".repeat(depth);
    if (ways.containsKey(node)) {
      String step = indent + "look up in " + ((PlanNode.Source) node).name() + ways.get(node);
      lines.add(new Line(node, step, "none", ""));
      return;
    }
    lines.add(node.accept(new Writer(indent, run)));
    PlanNode.Join now = node instanceof PlanNode.Join j ? run.apply(j) : null;
    for (int side = 0; now != null && side < 2; side++) {
      PlanNode.Source kept = ((PlanNode.Join) node).kept(side); // a step has lines of its own
      if (kept != null && (side == now.table() || now.bothElsewhere())) {
        ways.put(kept, " by " + way(now, side));
      }
    }
    for (PlanNode input : node.inputs()) {
      print(input, depth + 1, ways, run, lines);
    }
  }

  /** By what the rows of an input are found. */
  private static String way(PlanNode.Join j, int side) {
    if (side == j.table() && j.byKey()) {
      return "its key";
    }
    Schema schema = j.inputs().get(side).schema();
    List<Integer> keys = side == 0 ? j.leftKeys() : j.rightKeys();
    return keys.isEmpty() ? "a list of its rows" : "an index on " + Writer.names(keys, schema);
  }

  private record Writer(String indent, UnaryOperator<PlanNode.Join> run)
      implements PlanVisitor<Line> {
    private Line line(PlanNode node, String step, String state, String bound) {
      return new Line(node, indent + step, state, bound);
    }

    @Override
    public Line source(PlanNode.Source s) {
      String kind = s.appendOnly() ? " (append-only)" : " (rows come and go)";
      return line(s, "read " + s.name() + kind, "none", "");
    }

    @Override
    public Line values(PlanNode.Values v) {
      return line(v, "values: " + v.rows().size() + " rows", "none", "");
    }

    @Override
    public Line transform(PlanNode.Transform t) {
      Schema in = t.program().input();
      List<String> parts = new ArrayList<>();
      if (t.program().filter() != null) {
        parts.add("filter " + ExprText.of(t.program().filter(), in));
      }
      if (!t.program().passesColumns()) {
        parts.add("compute " + outputs(t, in));
      }
      return line(t, parts.isEmpty() ? "pass on" : String.join("; ", parts), "none", "");
    }

    private static String outputs(PlanNode.Transform t, Schema in) {
      List<String> texts = new ArrayList<>();
      List<Expr> outputs = t.program().outputs();
      for (int i = 0; i < outputs.size(); i++) {
        String name = t.schema().column(i).name();
        String text = ExprText.of(outputs.get(i), in);
        texts.add(text.equals(name) ? name : text + " as " + name);
      }
      return String.join(", ", texts);
    }

    @Override
    public Line aggregate(PlanNode.Aggregate a) {
      Schema in = a.input().schema();
      String groups =
          a.groupColumns().stream().map(i -> in.column(i).name()).collect(Collectors.joining(", "));
      String calls = a.calls().stream().map(c -> c.text(in)).collect(Collectors.joining(", "));
      boolean all =
          !a.input().appendOnly() && a.calls().stream().anyMatch(c -> c.function().isExtreme());
      boolean distinct = a.calls().stream().anyMatch(AggregateCall::distinct);
      boolean collected = a.calls().stream().anyMatch(c -> c.function().isCollected());
      String state =
          (a.calls().isEmpty() ? "a count per distinct row" : "one entry per group")
              + (all ? ", and every value of MIN and MAX in order" : "")
              + (distinct ? ", and every distinct value" : "")
              + (collected ? ", and every value in order" : "");
      return line(
          a,
          (a.calls().isEmpty() ? "distinct " : "aggregate " + calls)
              + (groups.isEmpty() ? "" : (a.calls().isEmpty() ? "" : " by ") + groups)
              + (a.publishesEnds() ? ", put out when they end" : ""),
          state,
          bound(a));
    }

    private static String bound(PlanNode.Aggregate a) {
      if (a.groupColumns().isEmpty()) {
        return "one group";
      }
      boolean timed =
          EventTimes.of(a).keySet().stream().anyMatch(c -> !a.schema().type(c).nullable());
      if (a.ending() == null && timed) {
        return "groups: no bound; OPTIONS (keep '7 days') takes them out";
      }
      if (a.ending() == null) {
        return a.calls().isEmpty() ? "distinct rows: no bound" : "groups: no bound";
      }
      String time = a.schema().column(a.ending().column()).name();
      return "groups until the watermark " + after(time, a.ending().delayMicros());
    }

    @Override
    public Line join(PlanNode.Join j) {
      List<String> conditions = new ArrayList<>();
      for (int i = 0; i < j.leftKeys().size(); i++) {
        conditions.add(
            j.left().schema().column(j.leftKeys().get(i)).name()
                + (j.nullMatches().get(i) ? " IS NOT DISTINCT FROM " : " = ")
                + j.right().schema().column(j.rightKeys().get(i)).name());
      }
      if (j.condition() != null) {
        String text = ExprText.of(j.condition(), j.pairSchema());
        boolean loose = j.condition() instanceof Expr.Call c && c.operation() == Operation.OR;
        conditions.add(loose && !conditions.isEmpty() ? "(" + text + ")" : text);
      }
      String kind =
          switch (j.kind()) {
            case INNER -> "join";
            case SEMI -> "rows of the first that meet one";
            case ANTI -> "rows of the first that meet none";
            default -> j.kind().name().toLowerCase(Locale.ROOT) + " join";
          };
      String on =
          conditions.isEmpty() ? " all with all" : " on " + String.join(" AND ", conditions);
      PlanNode.Join now = run.apply(j);
      int table = now == null ? -1 : now.table();
      String state =
          table < 0
              ? "the rows of both inputs, by what they are joined on"
              : now.bothElsewhere()
                  ? "indexes; the rows of both inputs are looked up where they are"
                  : "the rows of the "
                      + (table == 0 ? "second" : "first")
                      + (now.byKey()
                          ? " input; the other's are looked up where they are"
                          : " input, and an index of the other's");
      return line(j, kind + on, state, bound(j, now));
    }

    private static String bound(PlanNode.Join j, PlanNode.Join now) {
      List<String> bounds = new ArrayList<>();
      for (int side = 0; side < 2; side++) {
        String which = side == 0 ? "first" : "second";
        Ending ending = j.ending(side);
        if (ending != null) {
          String time = j.inputs().get(side).schema().column(ending.column()).name();
          bounds.add(
              which
                  + (bounds.isEmpty() ? " until the watermark " : " until it ")
                  + after(time, Math.max(0, ending.delayMicros())));
        } else if (now == null || side != now.table()) {
          bounds.add(which + ": no bound");
        }
      }
      if (now != null && now.bothElsewhere()) {
        return "an entry for each row of them";
      }
      boolean none = j.ending(0) == null && j.ending(1) == null;
      return none ? "no bound" : String.join(", ", bounds);
    }

    @Override
    public Line repeat(PlanNode.Repeat r) {
      int last = r.input().schema().size() - 1;
      String times = r.input().schema().column(last).name();
      return line(r, "each row as often as " + times, "none", "");
    }

    @Override
    public Line unnest(PlanNode.Unnest u) {
      Schema in = u.input().schema();
      String arrays =
          in.columns().subList(u.kept(), in.size()).stream()
              .map(c -> c.name())
              .collect(Collectors.joining(", "));
      String or = u.outer() ? ", or one if there is none" : "";
      return line(u, "a row for each element of " + arrays + or, "none", "");
    }

    @Override
    public Line window(PlanNode.Window w) {
      Schema in = w.input().schema();
      String calls = w.calls().stream().map(c -> c.text(in)).collect(Collectors.joining(", "));
      String by =
          (w.partition().isEmpty() ? "" : " by " + names(w.partition(), in))
              + (w.order().isEmpty() ? "" : " ordered by " + SortKey.text(w.order(), in));
      String kept = w.kept() == null ? "" : kept(w.kept()) + (calls.isEmpty() ? "" : "; ");
      long needed = w.rowsNeeded();
      boolean few = needed >= 0;
      Ending ending = w.ending();
      return line(
          w,
          (kept + calls + by).trim(),
          few ? "the first rows, in order" : "the rows of the input, in order",
          ending != null
              ? "rows until the watermark "
                  + after(in.column(ending.column()).name(), ending.delayMicros())
              : !few
                  ? "no bound"
                  : w.partition().isEmpty()
                      ? needed + " rows"
                      : needed + " rows for each " + names(w.partition(), in) + ": no bound");
    }

    private static String kept(KeptPlaces kept) {
      String first = kept.after() == 0 ? "first " : (kept.after() + 1) + " to ";
      return first + kept.to() + " by " + kept.ranking();
    }

    private static String names(List<Integer> columns, Schema in) {
      return columns.stream().map(i -> in.column(i).name()).collect(Collectors.joining(", "));
    }

    @Override
    public Line matches(Matches m) {
      Schema in = m.input().schema();
      List<String> variables = m.variables().stream().map(Matches.Variable::name).toList();
      String of = m.partition().isEmpty() ? "" : " of each " + names(m.partition(), in);
      String time = in.column(m.order().get(0).column()).name();
      return line(
          m,
          "matches of "
              + RowPattern.text(m.pattern(), variables)
              + of
              + " ordered by "
              + SortKey.text(m.order(), in)
              + (m.withinMicros() < 0 ? "" : ", within " + Spans.text(m.withinMicros())),
          m.isSettled()
              ? "the rows that may be in a match"
              : "the rows of the input, in order, and what is put out of them",
          bound(m, time, of));
    }

    private static String bound(Matches m, String time, String of) {
      long before = m.rowsBefore();
      long most = RowPattern.mostRows(m.pattern());
      if (!m.isSettled()) {
        return "no bound";
      }
      if (m.withinMicros() >= 0) {
        return "rows until the watermark "
            + after(time, m.delayMicros() + m.withinMicros())
            + (before == 0 ? "" : ", and the last " + before + of)
            + (m.isNumbered() ? ", and how many matches there were" + of : "");
      }
      return most < 0
          ? "no bound; WITHIN INTERVAL … bounds it"
          : (most - 1 + before) + " rows" + (of.isEmpty() ? "" : of + ": no bound");
    }

    @Override
    public Line nearest(Nearest n) {
      Schema in = n.input().schema();
      String time = in.column(n.time()).name();
      String where =
          n.before()
              ? (n.behindEqual() ? "the last before its " : "the last up to its ")
              : (n.behindEqual() ? "the first from its " : "the first behind its ");
      Ending ending = n.ending();
      return line(
          n,
          "each row of the first with "
              + where
              + time
              + (n.keys().isEmpty() ? "" : " by " + names(n.keys(), in))
              + (n.outer() ? ", or none" : ""),
          "the rows of both inputs, in order",
          ending == null
              ? "no bound"
              : "first until the watermark "
                  + after(time, ending.delayMicros())
                  + ", second but the last until then");
    }

    @Override
    public Line timeWindows(TimeNode.TimeWindows w) {
      String time = w.input().schema().column(w.time()).name();
      if (w.sizeMicros() == 1) { // each row is judged by itself
        long grace = w.delayMicros() + 1;
        String or = grace > 1 ? ", or late by less than " + Spans.text(grace) : "";
        return line(w, "rows in time by " + time + or, "none", "");
      }
      String every =
          w.tumbles() ? "" : (w.grows() ? " growing by " : " every ") + Spans.text(w.slideMicros());
      String of =
          switch (w.rows()) {
            case ALL -> "windows of ";
            case FOR_SLICES -> "slices of ";
            case OF_SLICES -> "slices in windows of ";
            case PARTLY_LATE -> "rows too late for their slice in windows of ";
          };
      String step = of + Spans.text(w.sizeMicros()) + every;
      boolean judges = w.delayMicros() >= 0 && w.rows() != TimeNode.TimeWindows.Rows.PARTLY_LATE;
      return line(w, step + " by " + time + (judges ? ", without late rows" : ""), "none", "");
    }

    @Override
    public Line sessions(TimeNode.Sessions s) {
      Schema in = s.input().schema();
      String of = s.partition().isEmpty() ? "" : " of each " + names(s.partition(), in);
      String time = in.column(s.time()).name();
      long behind = 2 * s.gapMicros() + s.delayMicros() + Math.max(0, s.withdrawMicros());
      return line(
          s,
          "sessions" + of + " by " + time + ", ended by a gap of " + Spans.text(s.gapMicros()),
          s.merged() ? "none" : "the rows of sessions, in order",
          s.merged()
              ? ""
              : s.delayMicros() < 0
                  ? "no bound"
                  : "sessions until the watermark " + after("their last " + time, behind));
    }

    @Override
    public Line settle(TimeNode.Settle s) {
      String time = s.schema().column(s.time()).name();
      if (s.atOnce()) {
        return line(
            s,
            "taken out when the watermark " + after(time, s.delayMicros() + s.keepMicros()),
            "rows until they are taken out",
            "rows ahead of the watermark less " + Spans.text(s.keepMicros()));
      }
      return line(
          s,
          "put out when the watermark "
              + after(time, s.delayMicros())
              + (s.keepMicros() < 0 ? "" : ", taken out " + Spans.text(s.keepMicros()) + " later"),
          s.keepMicros() < 0 ? "rows that may change" : "rows until they are taken out",
          "rows ahead of the watermark"
              + (s.keepMicros() < 0 ? "" : " less " + Spans.text(s.keepMicros())));
    }

    @Override
    public Line paced(Paced p) {
      String time = p.schema().column(p.time()).name();
      return line(
          p,
          "put out every "
              + Spans.text(p.everyMicros())
              + ", and when the watermark "
              + after(time, p.delayMicros()),
          "rows that have changed since",
          "rows ahead of the watermark");
    }

    @Override
    public Line tableVersions(TableVersions v) {
      return line(v, "what the rows of " + v.input().name() + " have been", "nothing", "");
    }

    @Override
    public Line reached(TimeNode.Reached r) {
      int kept = r.schema().size() - r.times();
      List<String> times = new ArrayList<>();
      for (int c = kept; c < r.schema().size(); c++) {
        times.add(
            r.input() instanceof PlanNode.Transform t
                ? ExprText.of(t.program().outputs().get(c), t.input().schema())
                : r.schema().column(c).name());
      }
      return line(
          r,
          "follow the current time past " + String.join(", ", times),
          "rows that it has still to pass, by when",
          "rows until the current time has passed all of theirs");
    }

    private static String after(String time, long delayMicros) {
      boolean past = delayMicros % 1000 == 1; // an event at the very watermark may not be the last
      long more = past ? delayMicros - 1 : delayMicros;
      return (past ? "has passed " : "has reached ")
          + time
          + (more == 0 ? "" : " and " + Spans.text(more) + " more");
    }

    @Override
    public Line unionAll(PlanNode.UnionAll u) {
      return line(u, "union all", "none", "");
    }
  }
}
