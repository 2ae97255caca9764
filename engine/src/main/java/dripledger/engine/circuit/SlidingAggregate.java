package dripledger.engine.circuit;

import dripledger.engine.expr.Accumulator;
import dripledger.engine.expr.Accumulators;
import dripledger.engine.expr.Frame.Exclusion;
import dripledger.engine.expr.WindowCall;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Blobs;
import dripledger.engine.store.Versions;
import java.util.Arrays;

/**
 * An aggregate of a frame: rows that come into it are added, rows that leave it taken out; where
 * that cannot be done it is made anew. Saved: the state of a frame that begins with the partition.
 */
final class SlidingAggregate extends WindowFunction {
  private final OrderedRows rows;
  private final FrameCursor frame;
  private final Accumulator accumulator;
  private final boolean invertible;
  private final boolean excludes;
  private final boolean growing;
  private final Blobs blobs = new Blobs(Versions.once());
  private final long[] state;
  private final int[] blobWords;
  private int from;
  private int to;

  private record Saved(int to, long[] state, byte[][] blobs) {}

  SlidingAggregate(WindowCall call, OrderedRows rows, FrameCursor frame) {
    this.rows = rows;
    this.frame = frame;
    RowLayout layout = rows.layout;
    Accumulator exact = Accumulators.of(call.aggregate(), layout, false);
    invertible = exact != null;
    accumulator = invertible ? exact : Accumulators.of(call.aggregate(), layout, true);
    if (accumulator == null) {
      throw new IllegalStateException("no accumulator for " + call.aggregate().function());
    }
    excludes = call.frame().exclusion() != Exclusion.NONE;
    growing = call.frame().startsFirst() && !excludes;
    state = new long[accumulator.stateWords()];
    blobWords = accumulator.blobWords();
  }

  @Override
  void begin(PartitionViews.View of, Object saved) {
    super.begin(of, saved);
    clear(growing ? 0 : of.first());
    frame.begin(of, 0);
    if (saved instanceof Saved known) {
      System.arraycopy(known.state, 0, state, 0, state.length);
      for (int i = 0; i < blobWords.length; i++) {
        byte[] blob = known.blobs[i];
        state[blobWords[i]] = blob == null ? 0 : blobs.put(blob, 0, blob.length);
      }
      to = known.to;
      frame.begin(of, to);
    }
  }

  private void clear(int at) {
    accumulator.release(state, 0, blobs);
    Arrays.fill(state, 0);
    from = at;
    to = at;
  }

  private void add(int rank, long weight) {
    int start = rows.row(view.block(rank));
    accumulator.add(rows.rowBytes(), start, weight, state, 0, blobs);
  }

  private void goTo(int rank) {
    frame.at(rank);
    int wantedFrom = frame.from;
    int wantedTo = Math.max(frame.to, wantedFrom);
    if (wantedFrom >= to || wantedFrom > from && !invertible || excludes && !invertible) {
      clear(wantedFrom);
    }
    while (to < wantedTo) {
      if (invertible || !excludes || !frame.isExcluded(to)) {
        add(to, 1);
      }
      to++;
    }
    while (from < wantedFrom) {
      add(from++, -1);
    }
  }

  private void weighExcluded(long weight) {
    if (!excludes || !invertible) {
      return;
    }
    for (int i = Math.max(frame.from, frame.excludedFrom());
        i < Math.min(frame.to, frame.excludedTo());
        i++) {
      if (frame.isExcluded(i)) {
        add(i, weight);
      }
    }
  }

  @Override
  void write(int rank, RowWriter out, int column) {
    goTo(rank);
    weighExcluded(-1);
    try {
      accumulator.write(state, 0, blobs, out, column);
    } finally {
      weighExcluded(1);
    }
  }

  private byte[][] savedBlobs() {
    byte[][] saved = new byte[blobWords.length][];
    for (int i = 0; i < blobWords.length; i++) {
      long place = state[blobWords[i]];
      if (place != 0) {
        int start = blobs.start(place);
        saved[i] = Arrays.copyOfRange(blobs.bytes(place), start, start + Blobs.length(place));
      }
    }
    return saved;
  }

  @Override
  boolean agrees(WindowFunction other, int rank) {
    SlidingAggregate that = (SlidingAggregate) other;
    goTo(rank);
    that.goTo(rank);
    long apart = 0; // words that are places
    for (int word : blobWords) {
      apart |= 1L << word;
    }
    for (int i = 0; i < state.length; i++) {
      if ((apart >>> i & 1) == 0 && state[i] != that.state[i]) {
        return false;
      }
    }
    return from == that.from && to == that.to && Arrays.deepEquals(savedBlobs(), that.savedBlobs());
  }

  @Override
  Object save() {
    return growing ? new Saved(to, state.clone(), savedBlobs()) : null;
  }

  @Override
  int savedRows(Object saved) {
    return ((Saved) saved).to;
  }
}
