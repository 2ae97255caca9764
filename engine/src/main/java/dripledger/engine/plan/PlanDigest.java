package dripledger.engine.plan;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.ExprText;
import dripledger.engine.expr.WindowCall;
import dripledger.engine.pattern.PatternItem;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import java.nio.charset.StandardCharsets;
import java.security.MessageDigest;
import java.security.NoSuchAlgorithmException;
import java.util.List;

/**
 * Says whether two plans are the same: if what they compute, and the form their state is kept in,
 * is equal. Names of columns and relations are no part of it. Stateless.
 */
public final class PlanDigest {
  /** To be raised when an expression or operator of the same form comes to mean something else. */
  private static final int MEANING = 4;

  private PlanDigest() {}

  /** The canonical form of a plan: equal for equal plans only. */
  public static String canonical(PlanNode root) {
    StringBuilder out = new StringBuilder("meaning ").append(MEANING).append('\n');
    root.accept(new Writer(out, 0));
    return out.toString();
  }

  /** A number for a canonical form: negative, and for all that can happen another for another. */
  public static long number(String canonical) {
    try {
      byte[] hash =
          MessageDigest.getInstance("SHA-256").digest(canonical.getBytes(StandardCharsets.UTF_8));
      long number = 0;
      for (int i = 0; i < 8; i++) {
        number = number << 8 | (hash[i] & 0xFF);
      }
      return number | Long.MIN_VALUE;
    } catch (NoSuchAlgorithmException e) {
      throw new IllegalStateException("every Java has SHA-256", e);
    }
  }

  private record Writer(StringBuilder out, int depth) implements PlanVisitor<Void> {
    private Void inputs(PlanNode node) {
      out.append('\n');
      node.inputs().forEach(input -> input.accept(new Writer(out, depth + 1)));
      return null;
    }

    private StringBuilder begin(String what) {
      return out.append("  ".repeat(depth)).append(what).append(' ');
    }

    @Override
    public Void source(PlanNode.Source s) {
      // A relation may get more columns; what reads it keeps to those it knows.
      begin("read").append(s.relationId()).append(types(s.schema()));
      return inputs(s);
    }

    @Override
    public Void values(PlanNode.Values v) {
      begin("values").append(types(v.schema()));
      for (List<Object> row : v.rows()) {
        for (Object value : row) {
          String text = String.valueOf(value);
          out.append(value == null ? -1 : text.length()).append(':').append(text).append(' ');
        }
      }
      return inputs(v);
    }

    @Override
    public Void transform(PlanNode.Transform t) {
      begin("transform");
      if (t.program().filter() != null) {
        out.append("if ");
        ExprText.canonical(t.program().filter(), out);
      }
      out.append(types(t.schema()));
      t.program()
          .outputs()
          .forEach(
              each -> {
                ExprText.canonical(each, out);
                out.append(';');
              });
      return inputs(t);
    }

    @Override
    public Void aggregate(PlanNode.Aggregate a) {
      begin("aggregate")
          .append(a.input().appendOnly() ? "events" : "rows")
          .append(" by ")
          .append(a.groupColumns());
      if (a.ending() != null) {
        out.append(" ending ").append(a.ending());
      }
      a.calls().forEach(call -> out.append(' ').append(call(call)));
      out.append(types(a.schema()));
      return inputs(a);
    }

    @Override
    public Void unionAll(PlanNode.UnionAll u) {
      begin("union").append(types(u.schema()));
      return inputs(u);
    }

    @Override
    public Void join(PlanNode.Join j) {
      begin("join")
          .append(j.kind())
          .append(' ')
          .append(j.leftKeys())
          .append(" = ")
          .append(j.rightKeys())
          .append(" nulls ")
          .append(j.nullMatches())
          .append(
              j.table() < 0 ? "" : " looked up in " + j.table() + (j.byKey() ? "" : " by index"))
          .append(j.bothElsewhere() ? " and the other" : "")
          .append(" ends ")
          .append(j.ending(0))
          .append(' ')
          .append(j.ending(1));
      if (j.condition() != null) {
        out.append(" if ");
        ExprText.canonical(j.condition(), out);
      }
      out.append(types(j.schema()));
      return inputs(j);
    }

    @Override
    public Void repeat(PlanNode.Repeat r) {
      begin("repeat").append(types(r.schema()));
      return inputs(r);
    }

    @Override
    public Void unnest(PlanNode.Unnest u) {
      begin("unnest")
          .append(u.kept())
          .append(u.ordinality() ? " numbered" : "")
          .append(u.outer() ? " outer" : "")
          .append(types(u.schema()));
      return inputs(u);
    }

    @Override
    public Void window(PlanNode.Window w) {
      begin("window")
          .append(w.input().appendOnly() ? "events" : "rows")
          .append(" by ")
          .append(w.partition())
          .append(" in ")
          .append(w.order());
      for (WindowCall call : w.calls()) {
        out.append(' ').append(call.function()).append(call.arguments()).append(call.number());
        out.append(call.frame())
            .append(call.ignoreNulls() ? " not null" : "")
            .append(call.aggregate() == null ? "" : call(call.aggregate()));
      }
      out.append(w.kept()).append(" ends ").append(w.ending()).append(types(w.schema()));
      return inputs(w);
    }

    @Override
    public Void matches(Matches m) {
      begin("matches of ").append(m.pattern()).append(" by ").append(m.partition());
      out.append(" in ").append(m.order()).append(m.anchors()).append(m.after());
      out.append(" within ").append(m.withinMicros()).append(m.allRows() ? " rows " : " ");
      out.append(" delay ").append(m.delayMicros());
      m.variables().forEach(v -> made(v.name(), v.condition()));
      made("", m.output());
      out.append(types(m.schema()));
      return inputs(m);
    }

    private void made(String what, Matches.Made made) {
      out.append(' ').append(what).append(" = ");
      if (made == null) {
        return;
      }
      for (PatternItem item : made.items()) {
        out.append(
            item instanceof PatternItem.Total t
                ? "total " + t.of() + call(t.call()) + t.running()
                : item.toString());
      }
      if (made.program().filter() != null) {
        ExprText.canonical(made.program().filter(), out);
      }
      for (Expr each : made.program().outputs()) {
        out.append(' ');
        ExprText.canonical(each, out);
      }
    }

    @Override
    public Void nearest(Nearest n) {
      begin("nearest by ").append(n.keys()).append(" of ").append(n.kind());
      out.append(" in ").append(n.order()).append(n.before() ? " before" : " behind");
      out.append(n.behindEqual()).append(n.outer() ? " outer " : " ").append(n.outputs());
      out.append(' ').append(n.firstOutputs()).append(" ends ").append(n.ending());
      out.append(types(n.schema()));
      return inputs(n);
    }

    @Override
    public Void timeWindows(TimeNode.TimeWindows w) {
      begin("time windows")
          .append(w.time())
          .append(" of ")
          .append(w.sizeMicros())
          .append(" every ")
          .append(w.slideMicros())
          .append(w.grows() ? " growing" : "")
          .append(" from ")
          .append(w.offsetMicros())
          .append(" and ")
          .append(w.delayMicros())
          .append(w.rows() == TimeNode.TimeWindows.Rows.ALL ? "" : " " + w.rows())
          .append(w.reachMicros() == 0 ? "" : " " + w.reachMicros())
          .append(types(w.schema()));
      return inputs(w);
    }

    @Override
    public Void sessions(TimeNode.Sessions s) {
      begin("sessions ").append(s.partition()).append(" by ").append(s.time());
      out.append(" gap ").append(s.gapMicros()).append(" delay ").append(s.delayMicros());
      out.append(" withdraw ").append(s.withdrawMicros()).append(s.merged() ? " merged" : "");
      return inputs(s);
    }

    @Override
    public Void settle(TimeNode.Settle s) {
      begin("settle").append(s.time()).append(" and ").append(s.delayMicros());
      out.append(" keep ").append(s.keepMicros()).append(s.atOnce() ? " at once" : "");
      return inputs(s);
    }

    @Override
    public Void paced(Paced p) {
      begin("paced ").append(p.time()).append(" and ").append(p.delayMicros());
      out.append(" every ").append(p.everyMicros());
      return inputs(p);
    }

    @Override
    public Void tableVersions(TableVersions v) {
      begin("versions");
      return inputs(v);
    }

    @Override
    public Void reached(TimeNode.Reached r) {
      begin("reached ").append(r.times()).append(types(r.schema()));
      return inputs(r);
    }

    private static String types(Schema schema) {
      return schema.columns().stream()
          .map(c -> c.type().toString())
          .collect(java.util.stream.Collectors.joining(", ", "(", ")"));
    }

    private static String call(AggregateCall call) {
      ColumnType type = call.output().type();
      return call.function()
          + call.arguments().toString()
          + (call.distinct() ? " distinct" : "")
          + (call.order().isEmpty() ? "" : " in " + call.order())
          + (call.filterColumn() >= 0 ? " filter " + call.filterColumn() : "")
          + " "
          + type;
    }
  }
}
