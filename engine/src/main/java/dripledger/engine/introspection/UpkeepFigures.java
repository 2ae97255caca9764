package dripledger.engine.introspection;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Upkeep;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.Refresher;
import dripledger.engine.definition.Definitions;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.time.Arrival;
import dripledger.engine.time.Spans;
import dripledger.engine.upkeep.UpkeepHistory;
import dripledger.engine.upkeep.Upkeeper;
import java.util.List;

/** What upkeep did and how fresh views are. Safe from any thread. */
final class UpkeepFigures {
  private static final double MILLI = 1e3; // microseconds

  private final Definitions definitions;
  private final Upkeeper upkeeper;

  UpkeepFigures(Definitions definitions, Upkeeper upkeeper) {
    this.definitions = definitions;
    this.upkeeper = upkeeper;
  }

  /** Rows of {@code drip.upkeep}. */
  List<Object[]> runs() {
    return upkeeper.runs().stream()
        .map(
            r ->
                new Object[] {
                  name(r.viewId()),
                  r.began(),
                  r.cause(),
                  r.failure() == null ? r.epoch() : null,
                  r.read(),
                  r.added(),
                  r.removed(),
                  r.unchanged(),
                  r.late(),
                  r.rejected(),
                  r.micros() / MILLI,
                  r.failure()
                })
        .toList();
  }

  /** Rows of {@code drip.freshness}. */
  List<Object[]> minutes() {
    return upkeeper.minutes().stream()
        .map(
            (UpkeepHistory.Minute m) ->
                new Object[] {
                  name(m.viewId()),
                  m.at(),
                  m.shown(),
                  m.inTime(),
                  m.arrivalMicros() / m.shown() / MILLI,
                  m.worstArrivalMicros() / MILLI,
                  m.events() == 0 ? null : m.eventMicros() / m.events() / MILLI,
                  m.events() == 0 ? null : m.worstEventMicros() / MILLI,
                  wanted(m.viewId())
                })
        .toList();
  }

  /** When a view takes in what has changed, as the end of a sentence; nothing for others. */
  static String note(CatalogObject object, LiveNode node) {
    if (!(object instanceof CatalogObject.MaterializedView view)
        || !(node instanceof QueryNode query)) {
      return "";
    }
    Upkeep upkeep = view.upkeep();
    StringBuilder note = new StringBuilder();
    if (!upkeep.isContinuous()) {
      Refresher refresher = query.refresher();
      note.append("; upkeep ").append(upkeep.text());
      if (refresher.lastMicros() != Arrival.NONE) {
        note.append(", last at ").append(BoxedRows.timestamp(refresher.lastMicros()));
      }
      note.append(", ")
          .append(refresher.waitingRows())
          .append(" rows wait (")
          .append(refresher.waitingBytes())
          .append(" bytes)");
    }
    if (upkeep.freshMicros() > 0) {
      note.append("; fresh within ").append(Spans.text(upkeep.freshMicros()));
    }
    return note.toString();
  }

  private String name(long view) {
    CatalogObject object = definitions.catalog().find(view);
    return object == null ? null : object.name();
  }

  private Double wanted(long view) {
    return definitions.catalog().find(view) instanceof CatalogObject.MaterializedView m
            && m.upkeep().freshMicros() > 0
        ? m.upkeep().freshMicros() / MILLI
        : null;
  }
}
