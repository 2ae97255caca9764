package dripledger.engine.introspection;

import dripledger.engine.advice.StepStates;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.definition.Definitions;
import dripledger.engine.plan.Matches;
import dripledger.engine.plan.Nearest;
import dripledger.engine.plan.Paced;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.plan.TimeNode;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.time.Watermark;
import java.time.Clock;
import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.TimeUnit;

/** How far time has come, for {@code drip.watermarks}. Safe from any thread. */
final class WatermarkFigures {
  private final Definitions definitions;
  private final Clock clock;

  /**
   * How far time has come for something.
   *
   * @param watermark the lowest of what it reads, in microseconds since 1970
   * @param highest the latest event time that was seen
   */
  private record Times(long watermark, long highest) {
    static final Times NONE = new Times(Watermark.TIMELESS, Watermark.NONE);

    Times and(Times other) {
      return new Times(Math.min(watermark, other.watermark), Math.max(highest, other.highest));
    }

    boolean areKnown() {
      return watermark != Watermark.TIMELESS;
    }
  }

  WatermarkFigures(Definitions definitions, Clock clock) {
    this.definitions = definitions;
    this.clock = clock;
  }

  List<Object[]> rows() {
    List<Object[]> rows = new ArrayList<>();
    for (CatalogObject object : definitions.catalog().all()) {
      Times own = of(object);
      if (object instanceof CatalogObject.Stream && own.areKnown()) {
        rows.add(row(object.name(), "read", own, null, null));
      } else if (object instanceof CatalogObject.MaterializedView view && own.areKnown()) {
        steps(view, rows);
      }
    }
    return rows;
  }

  private void steps(CatalogObject.MaterializedView view, List<Object[]> rows) {
    StepStates states = Introspection.states(definitions, definitions.cut(view), view.id());
    for (PlanPrinter.Line line : PlanPrinter.print(view.plan())) {
      Circuit.State state = states.of(line.node());
      Times times = of(line.node());
      if (state != null && times.areKnown() && waits(line.node())) {
        rows.add(row(view.name(), line.step().trim(), times, state.keys(), line.bound()));
      }
    }
  }

  /** Whether a step goes by the watermark. */
  private static boolean waits(PlanNode node) {
    return node instanceof TimeNode.Settle
        || node instanceof Paced
        || node instanceof TimeNode.Sessions s && s.delayMicros() >= 0
        || node instanceof Matches m && m.isSettled()
        || node instanceof Nearest n && n.ending() != null
        || node instanceof PlanNode.Aggregate a && a.ending() != null
        || node instanceof PlanNode.Window w && w.ending() != null
        || node instanceof PlanNode.Join j && (j.ending(0) != null || j.ending(1) != null);
  }

  private Object[] row(String name, String step, Times times, Long waiting, String bound) {
    long now = TimeUnit.MILLISECONDS.toMicros(clock.millis());
    boolean begun = times.watermark != Watermark.NONE;
    return new Object[] {
      name,
      step,
      begun ? BoxedRows.timestamp(times.watermark) : null,
      times.highest == Watermark.NONE ? null : BoxedRows.timestamp(times.highest),
      begun ? TimeUnit.MICROSECONDS.toSeconds(now - times.watermark) : null,
      waiting,
      bound
    };
  }

  private Times of(PlanNode node) {
    if (node instanceof PlanNode.Source source) {
      CatalogObject object = definitions.catalog().find(source.relationId());
      return object == null ? Times.NONE : of(object);
    }
    return node.inputs().stream().map(this::of).reduce(Times.NONE, Times::and);
  }

  private Times of(CatalogObject object) {
    if (object instanceof CatalogObject.MaterializedView view) {
      return of(view.plan());
    }
    if (!(object instanceof CatalogObject.Stream stream)
        || stream.eventTime() < 0
        || !(definitions.node(object.id()) instanceof InputNode node)) {
      return Times.NONE;
    }
    long highest =
        node.partitions().stream()
            .mapToLong(p -> p.micros() + stream.latenessMicros())
            .max()
            .orElse(Watermark.NONE);
    return new Times(node.watermarkMicros(), highest);
  }
}
