package dripledger.engine.advice;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.KeptRows;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.QueryNodes;
import dripledger.engine.epoch.EpochInput;
import dripledger.engine.epoch.EpochLimits;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.plan.Ending;
import dripledger.engine.plan.Inlined;
import dripledger.engine.plan.Matches;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.plan.TimeNode;
import dripledger.engine.query.QueryRunner;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collection;
import java.util.HashMap;
import java.util.IdentityHashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicLong;

/**
 * A plan run over the events that there are, in the order of their time, with a graph of its own
 * beside the live one; what its steps keep is looked at three times. Of a stream at most {@value
 * #MOST_EVENTS} events are read, from its first on. Used by one thread, and thrown away.
 */
public final class Trial {
  private static final int MOST_EVENTS = 300_000;
  private static final int MOST_ROWS = 1_000_000; // of a table, or of the view
  private static final long MOST_BYTES = 256L << 20; // of the events of a stream, or of state
  private static final long MOST_MILLIS = 10_000;
  private static final int LEAST = 8; // events
  private static final int SLICES = 64;
  private static final int MANY = 8 * SLICES; // events: then a slice without any is a gap
  private static final int STEP = 256; // events: so that what explodes is seen before it does
  private static final long VIEW = Long.MAX_VALUE; // its number

  private final Inlined inlined;
  private final Map<PlanNode, Circuit.State> quarter = new IdentityHashMap<>();
  private final Map<PlanNode, Circuit.State> half = new IdentityHashMap<>();
  private final Map<PlanNode, Circuit.State> full = new IdentityHashMap<>();
  private final List<Circuit.State> rows = new ArrayList<>(); // the view's, each time
  private final long began = System.nanoTime();
  private String why;
  private long events;
  private long spanMicros;

  /**
   * So much of something.
   *
   * @param rows rows, groups or what else is kept
   */
  public record Amount(long rows, long bytes) {}

  private record Events(CatalogObject.Stream stream, Page page, long[] times, Integer[] order) {
    long at(int place) {
      return times[order[place]];
    }

    long between(long begin, long end) {
      return Arrays.stream(times).filter(at -> at >= begin && at <= end).count();
    }
  }

  /** Ends the reading of a stream; carries nothing. */
  private static final class Enough extends RuntimeException {
    private static final long serialVersionUID = 1L;

    Enough() {
      super(null, null, false, false);
    }
  }

  private Trial(Inlined inlined) {
    this.inlined = inlined;
  }

  /** Runs a plan; {@link #why} says if nothing could be seen of it. */
  public static Trial of(PlanNode plan, Catalog catalog, QueryRunner runner, Snapshot snapshot) {
    Inlined inlined =
        new Inlined(
            id -> catalog.find(id) instanceof CatalogObject.MaterializedView v ? v.plan() : null);
    PlanNode whole = plan.accept(inlined);
    Map<Long, CatalogObject> relations = new LinkedHashMap<>();
    sources(whole, catalog, relations);
    Trial trial = new Trial(inlined);
    trial.why = refusal(relations, snapshot);
    if (trial.why == null) {
      List<Events> streams = new ArrayList<>();
      for (CatalogObject object : relations.values()) {
        if (object instanceof CatalogObject.Stream s) {
          streams.add(read(s, runner, snapshot));
        }
      }
      trial.why = trial.run(plan, whole, relations, streams, runner, snapshot);
    }
    return trial;
  }

  /** Why there can be nothing to see, or null. */
  private static String refusal(Map<Long, CatalogObject> relations, Snapshot snapshot) {
    boolean timed = false;
    for (CatalogObject object : relations.values()) {
      if (object instanceof CatalogObject.Stream s) {
        if (s.eventTime() < 0) {
          return "stream " + s.name() + " has no event time";
        }
        timed = true;
      }
      RelationVersion rows = snapshot.relation(object.id());
      if (object instanceof CatalogObject.Table && rows != null && rows.count() > MOST_ROWS) {
        return "table " + object.name() + " has more than " + MOST_ROWS + " rows";
      }
    }
    return timed ? null : "it reads no stream";
  }

  private static void sources(PlanNode plan, Catalog catalog, Map<Long, CatalogObject> into) {
    if (plan instanceof PlanNode.Source s) {
      into.put(s.relationId(), catalog.find(s.relationId()));
    }
    plan.inputs().forEach(input -> sources(input, catalog, into));
  }

  private static Events read(CatalogObject.Stream stream, QueryRunner runner, Snapshot snapshot) {
    RowLayout layout = new RowLayout(stream.schema());
    Page all = new Page(layout);
    try {
      runner.feed(
          stream.id(),
          layout,
          snapshot,
          page -> {
            for (int i = 0; i < page.size(); i++) {
              if (!layout.isNull(page.bytes(), page.start(i), stream.eventTime())) {
                all.append(page.bytes(), page.start(i), page.end(i) - page.start(i), 1);
              }
            }
            if (all.size() >= MOST_EVENTS || all.byteSize() >= MOST_BYTES) {
              throw new Enough();
            }
          });
    } catch (Enough e) {
      // these are enough
    }
    long[] times = new long[all.size()];
    Integer[] order = new Integer[all.size()];
    for (int i = 0; i < times.length; i++) {
      times[i] = layout.slot(all.bytes(), all.start(i), stream.eventTime());
      order[i] = i;
    }
    Arrays.sort(order, (a, b) -> Long.compare(times[a], times[b]));
    return new Events(stream, all, times, order);
  }

  /** Answers why nothing was seen, or null. */
  private String run(
      PlanNode plan,
      PlanNode whole,
      Map<Long, CatalogObject> relations,
      List<Events> streams,
      QueryRunner runner,
      Snapshot snapshot) {
    if (streams.isEmpty() || streams.stream().anyMatch(s -> s.times.length < 2)) {
      return "there are too few events";
    }
    long begin = streams.stream().mapToLong(s -> s.at(0)).max().orElseThrow();
    long end = streams.stream().mapToLong(s -> s.at(s.times.length - 1)).min().orElseThrow();
    spanMicros = end - begin;
    long total = streams.stream().mapToLong(each -> each.between(begin, end)).sum();
    if (total < LEAST) {
      return "there are too few events";
    }
    if (spanMicros < SLICES) {
      return "the events of its streams are not of the same time";
    }
    PlanCut cut = PlanCut.of(whole, id -> null);
    Map<Long, QueryNode> steps = new HashMap<>();
    AtomicLong numbers = new AtomicLong(1);
    EpochLimits limits = new EpochLimits(1 << 20, 1L << 30, Long.MAX_VALUE, 1, 1000);
    try (EpochLoop loop = new EpochLoop(limits, () -> end, numbers::addAndGet)) {
      relations.values().forEach(object -> loop.attach(input(object)));
      for (PlanCut.Step step : cut.steps()) {
        steps.put(step.id(), QueryNodes.step(step, "a trial"));
        loop.attach(steps.get(step.id()));
      }
      QueryNode view = QueryNodes.view(VIEW, "a trial", cut, whole.schema(), null);
      loop.attach(view);
      StepStates states = new StepStates(cut, steps::get, view);
      long sequence = 1;
      loop.stepNow(sequence, tables(relations, runner, snapshot));
      int[] places = new int[streams.size()];
      int step = (int) Math.max(1, Math.min(STEP, total / (16L * streams.size())));
      int quiet = 0; // slices without events, as of a time when nothing was read
      for (int slice = 1; slice <= SLICES; slice++) {
        long before = events;
        long upTo = begin + spanMicros / SLICES * slice + (slice == SLICES ? SLICES : 0);
        for (int came = STEP; came > 0; ) {
          came = 0;
          List<EpochInput.Change> changes = new ArrayList<>();
          for (int s = 0; s < places.length; s++) {
            Page page = next(streams.get(s), places, s, begin, upTo, step);
            came += page.size();
            changes.add(new EpochInput.Change(streams.get(s).stream.id(), page));
          }
          events += came;
          loop.stepNow(++sequence, changes);
          RelationVersion put = loop.snapshot().relation(VIEW);
          boolean tooMuch =
              put != null && put.count() > MOST_ROWS
                  || stateBytes(view, steps.values()) > MOST_BYTES
                  || System.nanoTime() - began > TimeUnit.MILLISECONDS.toNanos(MOST_MILLIS);
          if (tooMuch) {
            return "after " + events + " events it had become too much for a trial";
          }
          if (rows.isEmpty() && 4 * events >= total) {
            look(plan, view, states, steps.values(), loop, quarter);
          } else if (rows.size() == 1 && 2 * events >= total) {
            look(plan, view, states, steps.values(), loop, half);
          }
        }
        quiet += events == before && total >= MANY ? 1 : 0;
      }
      look(plan, view, states, steps.values(), loop, full);
      spanMicros -= spanMicros / SLICES * quiet;
    }
    return null;
  }

  private static long stateBytes(QueryNode view, Collection<QueryNode> steps) {
    return view.circuit().stateBytes()
        + steps.stream().mapToLong(step -> step.circuit().stateBytes()).sum();
  }

  private static InputNode input(CatalogObject object) {
    RowLayout layout = new RowLayout(object.schema());
    return object instanceof CatalogObject.Stream s
        ? InputNode.stream(
            s.id(), s.name(), layout, s.eventTime(), s.latenessMicros(), Long.MAX_VALUE / 2)
        : InputNode.table(
            object.id(),
            object.name(),
            layout,
            KeptRows.unique(object.schema(), ((CatalogObject.Table) object).primaryKey()));
  }

  private static List<EpochInput.Change> tables(
      Map<Long, CatalogObject> relations, QueryRunner runner, Snapshot snapshot) {
    List<EpochInput.Change> changes = new ArrayList<>();
    for (CatalogObject object : relations.values()) {
      if (object instanceof CatalogObject.Table) {
        Page rows = new Page(new RowLayout(object.schema()));
        runner.feed(object.id(), rows.layout(), snapshot, rows::appendAll);
        changes.add(new EpochInput.Change(object.id(), rows));
      }
    }
    return changes;
  }

  private static Page next(Events of, int[] places, int which, long begin, long upTo, int most) {
    Page page = new Page(of.page.layout());
    while (page.size() < most && places[which] < of.times.length && of.at(places[which]) <= upTo) {
      int row = of.order[places[which]++];
      if (of.times[row] >= begin) {
        int start = of.page.start(row);
        page.append(of.page.bytes(), start, of.page.end(row) - start, 1);
      }
    }
    return page;
  }

  private void look(
      PlanNode plan,
      QueryNode view,
      StepStates states,
      Collection<QueryNode> steps,
      EpochLoop loop,
      Map<PlanNode, Circuit.State> into) {
    steps.forEach(QueryNode::measure);
    view.measure();
    for (PlanPrinter.Line line : PlanPrinter.print(plan)) {
      PlanNode now = inlined.of(line.node());
      Circuit.State state = now == null ? null : states.of(now);
      if (state != null) {
        into.put(line.node(), state);
      }
    }
    RelationVersion put = loop.snapshot().relation(VIEW);
    rows.add(
        put == null ? new Circuit.State(0, 0) : new Circuit.State(put.count(), put.heapBytes()));
  }

  /** Why nothing has been seen, or null. */
  public String why() {
    return why;
  }

  /** How many events it has seen. */
  public long events() {
    return events;
  }

  /** Of how much time they are, in microseconds, without what had no events. */
  public long spanMicros() {
    return spanMicros;
  }

  /** What a node of the plan keeps after a time, or null if it keeps nothing. */
  public Amount after(PlanNode node, long micros) {
    return full.containsKey(node) ? after(full.get(node), keys(node), micros) : null;
  }

  /** What it keeps in the end; null if that is nothing, or if it grows without one. */
  public Amount atLast(PlanNode node) {
    return full.containsKey(node) ? atLast(full.get(node), keys(node)) : null;
  }

  /** How many rows the view has after a time. */
  public Amount rowsAfter(long micros) {
    return after(rows.get(2), rows(), micros);
  }

  /** How many it has in the end, or null if they become ever more. */
  public Amount rowsAtLast() {
    return atLast(rows.get(2), rows());
  }

  private Growth keys(PlanNode node) {
    Circuit.State none = new Circuit.State(0, 0);
    return new Growth(
        quarter.getOrDefault(node, none).keys(),
        half.getOrDefault(node, none).keys(),
        full.get(node).keys(),
        spanMicros,
        horizon(node));
  }

  private Growth rows() {
    return new Growth(rows.get(0).keys(), rows.get(1).keys(), rows.get(2).keys(), spanMicros, -1);
  }

  private static Amount after(Circuit.State full, Growth growth, long micros) {
    return amount(full, growth.after(micros));
  }

  private static Amount atLast(Circuit.State full, Growth growth) {
    double last = growth.atLast();
    return last < 0 ? null : amount(full, last);
  }

  private static Amount amount(Circuit.State full, double rows) {
    double each = full.keys() == 0 ? 0 : (double) full.bytes() / full.keys();
    return new Amount(Math.round(rows), Math.round(rows * each));
  }

  /** How long it is until nothing is left of a row; −1 if something stays. */
  private static long horizon(PlanNode node) {
    if (node instanceof TimeNode.Settle s) {
      return s.delayMicros() + Math.max(0, s.keepMicros());
    }
    if (node instanceof TimeNode.Sessions s && s.delayMicros() >= 0) {
      return 2 * s.gapMicros() + s.delayMicros() + Math.max(0, s.withdrawMicros());
    }
    if (node instanceof Matches m && m.isSettled() && m.withinMicros() >= 0) {
      return m.delayMicros() + m.withinMicros();
    }
    if (node instanceof PlanNode.Join j && j.ending(0) != null && j.ending(1) != null) {
      return Math.max(j.ending(0).delayMicros(), j.ending(1).delayMicros());
    }
    Ending ending =
        node instanceof PlanNode.Aggregate a
            ? a.ending()
            : node instanceof PlanNode.Window w ? w.ending() : null;
    return ending == null ? -1 : ending.delayMicros() + longestWindow(node);
  }

  private static long longestWindow(PlanNode node) {
    long own = node instanceof TimeNode.TimeWindows w ? w.sizeMicros() : 0;
    return Math.max(own, node.inputs().stream().mapToLong(Trial::longestWindow).max().orElse(0));
  }
}
