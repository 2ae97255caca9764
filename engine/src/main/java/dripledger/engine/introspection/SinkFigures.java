package dripledger.engine.introspection;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.delivery.Deliveries;
import dripledger.engine.delivery.DeliveryStatus;
import dripledger.engine.query.Result;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.List;
import java.util.function.LongFunction;

/** How deliveries do, as SHOW SINKS and DESCRIBE say it. Safe from any thread. */
final class SinkFigures {
  private final Deliveries deliveries;
  private final LongFunction<LiveNode> nodes;

  SinkFigures(Deliveries deliveries, LongFunction<LiveNode> nodes) {
    this.deliveries = deliveries;
    this.nodes = nodes;
  }

  Result.Rows show(Catalog catalog, long epoch) {
    List<Object[]> rows = new ArrayList<>();
    for (CatalogObject object : catalog.all()) {
      if (object instanceof Sink sink) {
        rows.add(row(sink));
      }
    }
    return new Result.Rows(
        List.of(
            text("name"),
            text("target"),
            text("rows"),
            text("state"),
            number("epoch"),
            number("delivered"),
            number("behind_rows"),
            new Column("behind_seconds", ColumnType.of(Kind.DOUBLE)),
            text("last_error"),
            new Column("since", ColumnType.of(Kind.TIMESTAMP))),
        rows,
        epoch);
  }

  private Object[] row(Sink sink) {
    DeliveryStatus status = deliveries.status(sink);
    if (status == null) {
      return new Object[] {
        sink.name(), target(sink), sink.rows().word(), "starting", null, 0L, 0L, null, null, null
      };
    }
    return new Object[] {
      sink.name(),
      target(sink),
      sink.rows().word(),
      state(sink, status),
      status.epoch() == 0 ? null : status.epoch(),
      delivered(status),
      status.waitingRows(),
      behindSeconds(status),
      error(sink, status),
      time(status.errorSince())
    };
  }

  private String state(Sink sink, DeliveryStatus status) {
    LiveNode node = nodes.apply(sink.id());
    return node != null && node.failure() != null ? "stopped" : status.state();
  }

  private String error(Sink sink, DeliveryStatus status) {
    LiveNode node = nodes.apply(sink.id());
    return node != null && node.failure() != null ? node.failure() : status.error();
  }

  private static long delivered(DeliveryStatus status) {
    return status.carried().put() + status.carried().changed() + status.carried().removed();
  }

  private static double behindSeconds(DeliveryStatus status) {
    return status.waitingSince() == 0
        ? 0
        : Math.max(0, System.currentTimeMillis() - status.waitingSince()) / 1000.0;
  }

  private static LocalDateTime time(long millis) {
    return millis == 0 ? null : BoxedRows.timestamp(millis * 1000);
  }

  /** Where a delivery goes, in words. */
  static String target(Sink sink) {
    String format = sink.target().format();
    return sink.place() + (format == null ? "" : ", " + format);
  }

  /** How a delivery does, as the end of a sentence; nothing for others. */
  String note(CatalogObject object) {
    if (!(object instanceof Sink sink) || deliveries.status(sink) == null) {
      return "";
    }
    DeliveryStatus status = deliveries.status(sink);
    String error = error(sink, status);
    return "; to "
        + target(sink)
        + ", rows '"
        + sink.rows().word()
        + "', upkeep "
        + sink.upkeep().text()
        + "; "
        + state(sink, status)
        + ", "
        + delivered(status)
        + " delivered in "
        + status.batches()
        + " batches, "
        + status.waitingRows()
        + " rows wait ("
        + status.waitingBytes()
        + " bytes)"
        + (error == null ? "" : "; " + error);
  }

  private static Column text(String name) {
    return new Column(name, ColumnType.varchar(-1));
  }

  private static Column number(String name) {
    return new Column(name, ColumnType.of(Kind.BIGINT));
  }
}
