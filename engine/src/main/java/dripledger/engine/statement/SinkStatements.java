package dripledger.engine.statement;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.change.TableTransactions;
import dripledger.engine.delivery.Deliveries;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.query.Result;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.Target.Carried;
import dripledger.engine.sql.Command;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.TimeoutException;
import java.util.function.LongSupplier;
import java.util.function.Supplier;
import java.util.stream.IntStream;

/** What is asked of deliveries: to carry what there is now, and to show what they would carry. */
public final class SinkStatements {
  private static final int PREVIEWED = 5; // changes
  private static final long PATIENCE_SECONDS = 600;

  private final Deliveries deliveries;
  private final Connectors connectors;
  private final Supplier<Catalog> catalog;
  private final LongSupplier epoch;

  /**
   * @param epoch the newest one
   */
  public SinkStatements(
      Deliveries deliveries, Connectors connectors, Supplier<Catalog> catalog, LongSupplier epoch) {
    this.deliveries = deliveries;
    this.connectors = connectors;
    this.catalog = catalog;
    this.epoch = epoch;
  }

  /** REFRESH SINK: carries all that waits, once, and says what that did. */
  Result refresh(String name) {
    CatalogObject.Sink sink = (CatalogObject.Sink) catalog.get().find(name);
    long began = System.nanoTime();
    Carried done;
    try {
      done = deliveries.refresh(sink).get(PATIENCE_SECONDS, TimeUnit.SECONDS);
    } catch (ExecutionException e) {
      throw e.getCause() instanceof EngineException known
          ? known
          : new EngineException(Code.FAILED, String.valueOf(e.getCause().getMessage()));
    } catch (TimeoutException e) {
      throw new EngineException(
          Code.UNAVAILABLE,
          "the target has not taken all of it in " + PATIENCE_SECONDS + " s; it is carried on",
          null);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
    double millis = (System.nanoTime() - began) / 1e6;
    String what =
        String.format(
            Locale.ROOT,
            "refreshed %s: %d put in, %d changed, %d unchanged, %d removed, in %.1f ms",
            name,
            done.put(),
            done.changed(),
            done.unchanged(),
            done.removed(),
            millis);
    return new Result.Done(what, epoch.getAsLong());
  }

  /** EXPLAIN CREATE SINK: the first changes as they would be carried. */
  Result preview(Command.CreateSink command, TableTransactions.Transaction transaction) {
    CatalogObject.Sink sink =
        new CatalogObject.Sink(
            0,
            command.name(),
            "",
            command.schema(),
            command.plan(),
            command.key(),
            command.rows(),
            command.snapshot(),
            command.dependsOn(),
            command.target(),
            command.upkeep());
    int[] outputs = IntStream.range(0, command.schema().size()).toArray();
    Result.Rows first =
        (Result.Rows)
            transaction.answer(
                new Command.QueryPlan(
                    command.plan(), outputs, command.schema().columns(), List.of(), 0, PREVIEWED));
    List<Outgoing.Change> changes = new ArrayList<>();
    first.rows().forEach(row -> changes.add(new Outgoing.Change(null, row)));
    CatalogObject.Connection connection =
        (CatalogObject.Connection) catalog.get().find(command.target().connectionId());
    List<Object[]> lines = new ArrayList<>();
    for (String line : connectors.preview(connection, sink, changes)) {
      lines.add(new Object[] {line});
    }
    String note =
        "rows '" + command.rows().word() + "', " + (command.snapshot() ? "with snapshot" : "now");
    return new Result.Rows(
        List.of(new Column("carried first", ColumnType.varchar(-1))), lines, first.epoch(), note);
  }
}
