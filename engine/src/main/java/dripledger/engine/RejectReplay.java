package dripledger.engine;

import dripledger.engine.EngineException.Code;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.circuit.EpochLoop;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Connectors;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ExecutionException;
import java.util.function.UnaryOperator;

/**
 * Takes in messages after all that had been rejected, as they are or repaired. A replayed message
 * goes through the ledger, in one step with the end of its reject, so it is taken exactly once.
 * Safe from any thread.
 */
public final class RejectReplay {
  private static final int AT_ONCE = 10_000;

  private final RejectStore store;
  private final Ledger ledger;
  private final EpochLoop loop;
  private final Connectors connectors;

  RejectReplay(RejectStore store, Ledger ledger, EpochLoop loop, Connectors connectors) {
    this.store = store;
    this.ledger = ledger;
    this.loop = loop;
    this.connectors = connectors;
  }

  /**
   * What a replay did.
   *
   * @param taken messages that are rows now
   * @param left messages that still cannot be taken
   * @param firstReason why the first of those cannot, or null
   * @param epoch the epoch that shows the rows
   */
  public record Outcome(int taken, int left, String firstReason, long epoch) {}

  /**
   * Tries rejects of a stream again.
   *
   * @param ids which, or empty for all
   * @param repair makes the message to be read of the one that was rejected
   */
  public Outcome replay(CatalogObject object, List<Long> ids, UnaryOperator<byte[]> repair) {
    if (!(object instanceof CatalogObject.Stream)) {
      throw new EngineException(
          Code.INVALID,
          "rejects of a " + object.kind() + " cannot be replayed: a later message may be newer",
          "send the corrected row at its source");
    }
    Page page = new Page(new RowLayout(object.schema()));
    List<Long> taken = new ArrayList<>();
    String firstReason = null;
    int left = 0;
    List<RejectStore.Stored> found = store.find(object.id(), ids, AT_ONCE);
    for (RejectStore.Stored stored : found) {
      try {
        byte[] raw = stored.reject().raw();
        connectors.decode(
            object, stored.reject().key(), raw == null ? null : repair.apply(raw), page);
        taken.add(stored.id());
      } catch (EngineException e) {
        left++;
        firstReason = firstReason == null ? e.getMessage() : firstReason;
      }
    }
    if (taken.isEmpty()) {
      return new Outcome(0, left, firstReason, loop.snapshot().epoch());
    }
    try {
      long sequence =
          ledger
              .append(
                  List.of(new Ledger.Entry(object.id(), page)),
                  new Ledger.Settled(Map.of(), List.of(), taken))
              .get()
              .sequence();
      return new Outcome(taken.size(), left, firstReason, loop.awaitSequence(sequence, 60_000));
    } catch (ExecutionException e) {
      throw new EngineException(
          Code.FAILED, "the replay could not be made durable: " + e.getCause().getMessage(), null);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }
}
