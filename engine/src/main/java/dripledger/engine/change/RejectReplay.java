package dripledger.engine.change;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.checkpoint.Checkpointer;
import dripledger.engine.epoch.EpochInput;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.epoch.EpochWait;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.intake.Sources;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.KeyedRows;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.Reject;
import dripledger.engine.source.RejectStore;
import dripledger.engine.time.Arrival;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.Future;
import java.util.concurrent.TimeoutException;
import java.util.concurrent.locks.Lock;
import java.util.function.UnaryOperator;

/**
 * Takes in messages after all that had been rejected, as they are or repaired, each exactly once: a
 * stream's go through the ledger, in one step with the end of their rejects; a keyed table's are in
 * one checkpoint with it. Safe from any thread.
 *
 * <p>A table says the last value of each key, so a message that a later one for the same row has
 * overtaken changes nothing. Whether there is one is asked of the source, which is not read further
 * meanwhile.
 */
public final class RejectReplay {
  private static final int AT_ONCE = 10_000;

  private final RejectStore store;
  private final Ledger ledger;
  private final EpochLoop loop;
  private final Sources sources;
  private final Checkpointer checkpointer;
  private final Connectors connectors;
  private final Lock definitionLock;

  public RejectReplay(
      RejectStore store,
      Ledger ledger,
      EpochLoop loop,
      Sources sources,
      Checkpointer checkpointer,
      Connectors connectors,
      Lock definitionLock) {
    this.store = store;
    this.ledger = ledger;
    this.loop = loop;
    this.sources = sources;
    this.checkpointer = checkpointer;
    this.connectors = connectors;
    this.definitionLock = definitionLock;
  }

  /**
   * What a replay did.
   *
   * @param taken messages that are rows now
   * @param overtaken messages a later one made obsolete; they are rejects no longer
   * @param left messages that still cannot be taken
   * @param firstReason why the first of those cannot, or null
   * @param epoch the epoch that shows the rows
   */
  public record Outcome(int taken, int overtaken, int left, String firstReason, long epoch) {}

  /** Messages that can be read now, each with its rows or operations. */
  private static final class Repaired {
    final List<Long> ids = new ArrayList<>();
    final List<Reject> rejects = new ArrayList<>();
    final List<Page> pages = new ArrayList<>();
    int left;
    String firstReason;
  }

  /**
   * Tries rejects again. For a table this waits for a checkpoint.
   *
   * @param ids which, or empty for all
   * @param repair makes the message to be read of the one that was rejected
   * @param into the stream that takes what a view left out because it came too late; null for any
   *     other object, which takes its own
   */
  public Outcome replay(
      CatalogObject object, List<Long> ids, UnaryOperator<byte[]> repair, CatalogObject into) {
    if (object instanceof CatalogObject.MaterializedView view) {
      return replayLate(view, ids, repair, into);
    }
    if (object instanceof CatalogObject.Sink sink) {
      return resend(sink, ids, repair);
    }
    if (into != null) {
      throw new EngineException(
          Code.INVALID,
          "what " + object.kind() + " \"" + object.name() + "\" has rejected is for itself",
          "only what a materialized view left out as too late goes into another stream");
    }
    if (object instanceof CatalogObject.Table table && table.source() != null) {
      return replayTable(table, ids, repair);
    }
    if (!(object instanceof CatalogObject.Stream)) {
      throw new EngineException(Code.INVALID, object.aKind() + " has no rejects", null);
    }
    return take(object, repaired(object, object, object.schema(), ids, repair));
  }

  /** Sends messages again that the target of a delivery had refused. */
  private Outcome resend(CatalogObject.Sink sink, List<Long> ids, UnaryOperator<byte[]> repair) {
    Repaired repaired = new Repaired();
    CatalogObject.Connection connection = sources.connection(sink.target());
    for (RejectStore.Stored stored : store.find(sink.id(), ids, AT_ONCE)) {
      try {
        connectors.resend(connection, sink, repair.apply(stored.reject().raw()));
        repaired.ids.add(stored.id());
      } catch (EngineException e) {
        repaired.left++;
        repaired.firstReason = repaired.firstReason == null ? e.getMessage() : repaired.firstReason;
      }
    }
    if (!repaired.ids.isEmpty()) {
      InputProgress settled = new InputProgress(Map.of(), List.of(), repaired.ids);
      EpochWait.await(loop.between(() -> loop.rejects().add(settled)));
      await(checkpointer.request());
    }
    return outcome(repaired, 0, loop.snapshot().epoch());
  }

  /**
   * A stream takes rows that a view left out: by their columns' names. What the view reads has them
   * already, and would be late again.
   */
  private Outcome replayLate(
      CatalogObject.MaterializedView view,
      List<Long> ids,
      UnaryOperator<byte[]> repair,
      CatalogObject into) {
    if (!(into instanceof CatalogObject.Stream stream)) {
      throw new EngineException(
          Code.INVALID,
          into == null
              ? "what \"" + view.name() + "\" left out must be taken by another stream"
              : "\"" + into.name() + "\" is " + into.aKind(),
          "name a stream with columns of these names; a view may add its rows to this one's");
    }
    return take(stream, repaired(view, stream.pushed(), stream.schema(), ids, repair));
  }

  private Outcome take(CatalogObject object, Repaired repaired) {
    if (repaired.ids.isEmpty()) {
      return outcome(repaired, 0, loop.snapshot().epoch());
    }
    Page all = joined(object.schema(), repaired.pages);
    InputProgress settled = new InputProgress(Map.of(), List.of(), repaired.ids);
    try {
      long sequence =
          await(ledger.append(List.of(new Ledger.Entry(object.id(), all)), settled)).sequence();
      return outcome(repaired, 0, loop.awaitSequence(sequence, 60_000));
    } catch (TimeoutException e) {
      throw new EngineException(
          Code.UNAVAILABLE, "the messages are taken, but the views have not shown them yet", null);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }

  private Repaired repaired(
      CatalogObject of,
      CatalogObject object,
      Schema schema,
      List<Long> ids,
      UnaryOperator<byte[]> repair) {
    Repaired repaired = new Repaired();
    RowLayout layout = new RowLayout(schema);
    for (RejectStore.Stored stored : store.find(of.id(), ids, AT_ONCE)) {
      Page page = new Page(layout, 1);
      try {
        byte[] raw = stored.reject().raw();
        connectors.decode(
            sources.connectionOf(object),
            object,
            stored.reject().key(),
            raw == null ? null : repair.apply(raw),
            page);
        repaired.ids.add(stored.id());
        repaired.rejects.add(stored.reject());
        repaired.pages.add(page);
      } catch (EngineException e) {
        repaired.left++;
        repaired.firstReason = repaired.firstReason == null ? e.getMessage() : repaired.firstReason;
      }
    }
    return repaired;
  }

  private static Page joined(Schema schema, List<Page> pages) {
    Page all = new Page(new RowLayout(schema));
    pages.forEach(all::appendAll);
    return all;
  }

  private static Outcome outcome(Repaired repaired, int overtaken, long epoch) {
    return new Outcome(
        repaired.ids.size() - overtaken, overtaken, repaired.left, repaired.firstReason, epoch);
  }

  private Outcome replayTable(
      CatalogObject.Table table, List<Long> ids, UnaryOperator<byte[]> repair) {
    definitionLock.lock();
    try {
      CatalogObject.Connection connection = sources.connectionOf(table);
      if (sources.shared(connection)) {
        throw new EngineException(
            Code.INVALID,
            "rejects of a database's table cannot be replayed: its row would differ from the source",
            "change the row at the source; the change is read as every other");
      }
      Schema operations = KeyedRows.schema(table.schema());
      Repaired repaired = repaired(table, table, operations, ids, repair);
      if (repaired.ids.isEmpty()) {
        return outcome(repaired, 0, loop.snapshot().epoch());
      }
      List<Page> current;
      sources.close(table, connection);
      try {
        sources.settle();
        SourcePosition read = loop.snapshot().positions().get(sources.inputId(table));
        List<Boolean> overtaken =
            connectors.overtaken(connection, table, repaired.rejects, repaired.pages, read);
        current = new ArrayList<>();
        for (int i = 0; i < repaired.pages.size(); i++) {
          if (!overtaken.get(i)) {
            current.add(repaired.pages.get(i));
          }
        }
        loop.submit(
            new EpochInput(
                List.of(
                    new EpochInput.Change(
                        table.id(), joined(operations, current), 0, Arrival.now())),
                -1,
                new InputProgress(Map.of(), List.of(), repaired.ids),
                null));
        sources.settle();
      } finally {
        sources.open(table);
      }
      await(checkpointer.request());
      return outcome(repaired, repaired.pages.size() - current.size(), loop.snapshot().epoch());
    } finally {
      definitionLock.unlock();
    }
  }

  private static <T> T await(Future<T> done) {
    try {
      return done.get();
    } catch (ExecutionException e) {
      throw new EngineException(
          Code.FAILED, "the replay could not be made durable: " + e.getCause().getMessage(), null);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }
}
