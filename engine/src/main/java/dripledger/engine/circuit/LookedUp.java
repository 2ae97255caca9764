package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import java.util.List;
import java.util.function.LongFunction;

/**
 * The relations in which a circuit's joins look rows up, and the order that follows for what it is
 * fed: in an epoch what has changed in them comes before anything else, and is there by then.
 * Tables are up to date before anything is computed; where rows of what is computed are looked up,
 * all that the circuit is fed waits until its own turn. The epoch loop's thread.
 */
final class LookedUp {
  private final Circuit circuit;
  private LongFunction<KeyedRows> tables = id -> null;
  private FillBuffer waiting; // or null: nothing has to wait
  private boolean begun; // whether what tables have changed is in this epoch

  LookedUp(Circuit circuit) {
    this.circuit = circuit;
  }

  /**
   * Says where the rows are now.
   *
   * @param wait whether some are computed
   */
  void tables(LongFunction<KeyedRows> find, boolean wait) {
    tables = find;
    waiting = wait ? new FillBuffer() : null;
  }

  /** Has rows looked up in a version that is pinned, or {@link ElsewhereSide#NOW}. */
  void at(long version) {
    circuit.tables(tables, version);
  }

  /** Whether what the circuit is fed has to wait. */
  boolean waits() {
    return waiting != null;
  }

  /** Keeps a delta of an input until {@link #end}. */
  void add(long input, Page page) {
    waiting.add(input, page);
  }

  /** Begins an epoch, unless it has begun. */
  void begin(LongFunction<Page> deltas) {
    if (begun || waits()) {
      return;
    }
    begun = true;
    circuit.feedTables(
        id -> {
          Page delta = deltas.apply(id);
          return delta == null || delta.isEmpty() ? List.of() : List.of(delta);
        });
  }

  /** The circuit has been fed all of an epoch. */
  void end() {
    begun = false;
    if (waits()) {
      waiting.mark();
      take(waiting);
    }
  }

  /**
   * Has the circuit take in what was kept.
   *
   * @return how many rows it was
   */
  long take(FillBuffer kept) {
    circuit.feedTables(kept::of);
    return kept.drain(circuit::feed);
  }

  /** Heap held, in bytes. */
  long heapBytes() {
    return waits() ? waiting.heapBytes() : 0;
  }
}
