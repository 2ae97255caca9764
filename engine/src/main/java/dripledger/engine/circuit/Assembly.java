package dripledger.engine.circuit;

import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.plan.Matches;
import dripledger.engine.plan.Nearest;
import dripledger.engine.plan.Paced;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.plan.PlanVisitor;
import dripledger.engine.plan.SessionGroups;
import dripledger.engine.plan.TableVersions;
import dripledger.engine.plan.TimeNode;
import dripledger.engine.row.RowLayout;
import dripledger.engine.store.Versions;
import dripledger.engine.view.RelationVersion;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.HashSet;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.LongFunction;

/** Makes the operators of a plan, each of which hands on to the one above. For one circuit. */
final class Assembly {
  final List<Operator> operators = new ArrayList<>(); // what is read before what reads it
  final Inputs inputs = new Inputs();
  final Rejects rejects = new Rejects();
  final Map<PlanNode, Operator> keeping = new HashMap<>();
  final Set<Long> histories = new HashSet<>(); // tables, of which all that rows have been is read
  final Map<PlanNode, LateRows> late = new LinkedHashMap<>();
  private final Versions versions;
  private final LongFunction<RelationVersion> relations;
  private final Work work;
  private final boolean lookUps;

  /**
   * @param relations what a relation is, of a circuit that is fed once; else null
   * @param lookUps whether joins may look rows of tables up where these keep them
   */
  Assembly(Versions versions, LongFunction<RelationVersion> relations, Work work, boolean lookUps) {
    this.lookUps = lookUps;
    this.versions = versions;
    this.relations = relations;
    this.work = work;
  }

  Transform transform(PlanNode.Transform t, Operator next, int port) {
    int place = rejects.place(PlanPrinter.step(t), new RowLayout(t.input().schema()));
    return new Transform(ProgramCompiler.compile(t.program()), rejects, place, next, port);
  }

  void add(Operator op, PlanNode input) {
    build(input, op, 0);
    operators.add(op);
  }

  GroupAggregate aggregate(PlanNode.Aggregate a, Operator next, int port) {
    boolean merged = SessionGroups.merged(a) != null;
    LateRows late = a.ending() == null || merged ? null : lateRows(a, a.input());
    GroupAggregate op = new GroupAggregate(a, versions, rejects, late, next, port);
    add(op, merged ? SessionGroups.rows(a) : a.input());
    keeping.put(a, op);
    return op;
  }

  Window window(PlanNode.Window w, Operator next, int port) {
    Window op = new Window(w, versions, rejects, next, port);
    add(op, w.input());
    keeping.put(w, op);
    return op;
  }

  PacedRows paced(Paced p, Operator next, int port) {
    PacedRows op = new PacedRows(p, versions, next, port);
    build(p.settled(), op, 0);
    build(p.open(), op, 1);
    operators.add(op);
    keeping.put(p, op);
    return op;
  }

  Settle settle(TimeNode.Settle s, Operator next, int port) {
    Settle op = new Settle(s, versions, lateRows(s, s.input()), next, port);
    add(op, s.input());
    keeping.put(s, op);
    return op;
  }

  private LateRows lateRows(PlanNode node, PlanNode input) {
    return late.computeIfAbsent(
        node, n -> new LateRows(PlanPrinter.step(n), new RowLayout(input.schema())));
  }

  Join join(PlanNode.Join j, Operator next, int port) {
    int table = lookUps ? j.table() : -1;
    if (table >= 0
        && relations != null
        && (!j.byKey() || !Circuit.looksUpIn(relations.apply(j.kept(table).relationId())))) {
      table = -1;
    }
    boolean both = table >= 0 && relations == null && j.bothElsewhere();
    Join op = new Join(j, table, both, versions, rejects, work, next, port);
    if (table >= 0) {
      elsewhere(j, op, table, true);
    }
    for (int side = 0; side < 2; side++) {
      if (op.elsewhere(side) == null) {
        build(j.inputs().get(side), op, side);
      } else if (side != table) {
        elsewhere(j, op, side, false);
      }
    }
    operators.add(op);
    keeping.put(j, op);
    return op;
  }

  /**
   * Makes what feeds a join the changes of a relation that it looks rows up in.
   *
   * @param first whether they come before all others
   */
  private void elsewhere(PlanNode.Join j, Join join, int side, boolean first) {
    Operator operator = join;
    int port = side;
    if (j.inputs().get(side) instanceof PlanNode.Transform picked) {
      operator = transform(picked, join, side);
      port = 0;
      operators.add(operator);
    }
    PlanNode.Source source = j.kept(side);
    RowLayout layout = new RowLayout(source.schema());
    inputs.addElsewhere(source.relationId(), operator, port, layout, join.elsewhere(side), first);
  }

  void build(PlanNode node, Operator next, int port) {
    node.accept(new Builder(next, port));
  }

  /** By the kind of the node. */
  private final class Builder implements PlanVisitor<Void> {
    private final Operator next;
    private final int port;

    Builder(Operator next, int port) {
      this.next = next;
      this.port = port;
    }

    @Override
    public Void source(PlanNode.Source s) {
      inputs.add(s.relationId(), next, port, new RowLayout(s.schema()));
      return null;
    }

    @Override
    public Void values(PlanNode.Values v) {
      operators.add(new Constant(v, next, port));
      return null;
    }

    @Override
    public Void transform(PlanNode.Transform t) {
      add(Assembly.this.transform(t, next, port), t.input());
      return null;
    }

    @Override
    public Void aggregate(PlanNode.Aggregate a) {
      Assembly.this.aggregate(a, next, port);
      return null;
    }

    @Override
    public Void join(PlanNode.Join j) {
      Assembly.this.join(j, next, port);
      return null;
    }

    @Override
    public Void repeat(PlanNode.Repeat r) {
      add(new Repeat(r, next, port), r.input());
      return null;
    }

    @Override
    public Void unnest(PlanNode.Unnest u) {
      add(new Unnest(u, next, port), u.input());
      return null;
    }

    @Override
    public Void window(PlanNode.Window w) {
      Assembly.this.window(w, next, port);
      return null;
    }

    @Override
    public Void matches(Matches m) {
      PatternMatches op =
          new PatternMatches(
              m, versions, rejects, m.isSettled() ? lateRows(m, m.input()) : null, next, port);
      add(op, m.input());
      keeping.put(m, op);
      return null;
    }

    @Override
    public Void nearest(Nearest n) {
      NearestRows op = new NearestRows(n, versions, next, port);
      add(op, n.input());
      keeping.put(n, op);
      return null;
    }

    @Override
    public Void timeWindows(TimeNode.TimeWindows w) {
      Rejects timeless = relations == null ? rejects : new Rejects(); // no error of a query
      add(new TimeWindows(w, lateRows(w, w.input()), timeless, next, port), w.input());
      return null;
    }

    @Override
    public Void sessions(TimeNode.Sessions s) {
      if (s.merged()) {
        throw new IllegalStateException("who adds up sessions makes them");
      }
      Sessions op = new Sessions(s, versions, next, port);
      add(op, s.input());
      keeping.put(s, op);
      return null;
    }

    @Override
    public Void settle(TimeNode.Settle s) {
      Assembly.this.settle(s, next, port);
      return null;
    }

    @Override
    public Void paced(Paced p) {
      Assembly.this.paced(p, next, port);
      return null;
    }

    @Override
    public Void tableVersions(TableVersions v) {
      add(new VersionRows(v, next, port), v.input());
      histories.add(v.input().relationId());
      return null;
    }

    @Override
    public Void reached(TimeNode.Reached r) {
      Reached op = new Reached(r, versions, next, port);
      add(op, r.input());
      keeping.put(r, op);
      return null;
    }

    @Override
    public Void unionAll(PlanNode.UnionAll u) {
      u.inputs().forEach(input -> build(input, next, port));
      return null;
    }
  }
}
