package dripledger.engine.source;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.time.Arrival;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.function.LongFunction;

/**
 * The durable, ordered record of every change given to us: what a stream was pushed and how local
 * tables were changed. Each append has a sequence number; the engine's state is always the fold of
 * a prefix of them. Implementations are safe from any thread.
 */
public interface Ledger extends AutoCloseable {
  /**
   * Changes to one stream or table, from one partition of its source. The page is not touched by
   * the caller again.
   *
   * @param arrivedMicros when they came to us, in microseconds since 1970
   * @param messages they were read from, one for each, see {@link KeptMessages}; or null
   */
  record Entry(long relationId, Page changes, int partition, long arrivedMicros, Page messages) {
    public Entry(long relationId, Page changes, int partition, long arrivedMicros) {
      this(relationId, changes, partition, arrivedMicros, null);
    }

    /** Changes that come now. */
    public Entry(long relationId, Page changes, int partition) {
      this(relationId, changes, partition, Arrival.now());
    }

    public Entry(long relationId, Page changes) {
      this(relationId, changes, 0);
    }
  }

  /**
   * The acknowledgement of an append, given once it is durable.
   *
   * @param sequence its place among all appends
   * @param positions for each entry, the number of changes its relation has had, these included
   */
  record Receipt(long sequence, long[] positions) {}

  /** Takes in what has become durable, in sequence order, on the ledger's own thread; may block. */
  @FunctionalInterface
  interface Receiver {
    void committed(long sequence, List<Entry> entries, Map<Long, SourcePosition> positions);
  }

  /** Where committed entries go; set once, before the first append. */
  void receiver(Receiver receiver);

  /**
   * Makes the entries durable as one unit. Blocks while too much is waiting.
   *
   * @param id by which {@link #made} knows it, or null
   */
  CompletableFuture<Receipt> append(List<Entry> entries, InputProgress settled, String id);

  /** As above, without an id. */
  default CompletableFuture<Receipt> append(List<Entry> entries, InputProgress settled) {
    return append(entries, settled, null);
  }

  /** The sequence of the durable append with this id, or −1 if there is none; kept for a day. */
  long made(String id);

  /** As above, with nothing else settled. */
  default CompletableFuture<Receipt> append(List<Entry> entries) {
    return append(entries, InputProgress.NOTHING);
  }

  /** The positions of inputs whose events are kept here, as of the last durable append. */
  Map<Long, SourcePosition> positions();

  /** The number of the last durable append, 0 if there is none. */
  long lastSequence();

  /** Changes the relation has had. */
  long position(long relationId);

  /** How many of a relation's changes, the oldest, are no longer kept. */
  long forgotten(long relationId);

  /**
   * Reads one relation's changes with {@code after < sequence <= through}, in order.
   *
   * @param sink given pages it may keep
   */
  void read(long relationId, Page template, long after, long through, PartitionSink sink);

  /** Makes events of more columns of those there are and the messages they were read from. */
  @FunctionalInterface
  interface Widener {
    /** As many events, in their order, of the layout that is wanted. */
    Page widen(Page events, Page messages, int partition);
  }

  /**
   * Puts events of all columns in the place of those that have fewer and are kept with their
   * messages. What was done stays done if it fails.
   */
  void widen(long relationId, RowLayout layout, Widener widener);

  /**
   * Reads everything with {@code sequence > after} in order.
   *
   * @param template answers an empty page of the layout of a relation, or null to pass over it
   */
  void replay(long after, LongFunction<Page> template, Receiver sink);

  @Override
  void close();
}
