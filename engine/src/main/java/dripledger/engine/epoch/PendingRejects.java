package dripledger.engine.epoch;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Reject;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;

/** What was rejected or replayed since the last checkpoint, which is to hold it. Thread-safe. */
final class PendingRejects {
  private static final long MAX_BYTES = 32L << 20;

  private final List<Reject> rejects = new ArrayList<>();
  private final List<Long> replayed = new ArrayList<>();
  private long bytes;

  synchronized void add(InputProgress progress) {
    replayed.addAll(progress.replayed());
    // Sources are held before this; those who push are told of each reject, and it is counted.
    if (bytes <= 2 * MAX_BYTES) {
      rejects.addAll(progress.rejects());
      bytes += InputQueue.rejectBytes(progress.rejects());
    }
  }

  /** Whether sources that would bring more have to wait. */
  synchronized boolean full() {
    return bytes > MAX_BYTES;
  }

  /** Oldest first. */
  synchronized List<Reject> rejects() {
    return List.copyOf(rejects);
  }

  /** Everything there is, with the positions of inputs it goes with. */
  synchronized InputProgress with(Map<Long, SourcePosition> positions) {
    return new InputProgress(positions, List.copyOf(rejects), List.copyOf(replayed));
  }

  /** What a checkpoint was given is in it now. */
  synchronized void saved(InputProgress settled) {
    rejects.subList(0, settled.rejects().size()).clear();
    replayed.subList(0, settled.replayed().size()).clear();
    bytes = InputQueue.rejectBytes(rejects);
  }
}
