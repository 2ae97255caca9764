package dripledger.engine.epoch;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.circuit.LateRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Reject;
import dripledger.engine.time.Spans;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import java.util.function.BiFunction;

/**
 * What was rejected or replayed since the last checkpoint, which is to hold it, and what views keep
 * of the rows that they left out as too late. Thread-safe.
 */
public final class PendingRejects {
  private static final long MAX_BYTES = 32L << 20;

  private final List<Reject> rejects = new ArrayList<>();
  private final List<Long> replayed = new ArrayList<>();
  private BiFunction<RowLayout, byte[], byte[]> form = (layout, row) -> null;
  private long bytes;

  /** How a row is written as a message; before anything is stepped. */
  public void rowsAs(BiFunction<RowLayout, byte[], byte[]> form) {
    this.form = form;
  }

  /** Notes what was rejected and replayed. */
  public synchronized void add(InputProgress progress) {
    replayed.addAll(progress.replayed());
    // Sources are held before this; those who push are told of each reject, and it is counted.
    if (bytes <= 2 * MAX_BYTES) {
      rejects.addAll(progress.rejects());
      bytes += InputQueue.rejectBytes(progress.rejects());
    }
  }

  /** Keeps the rows that a view left out because they came too late. */
  synchronized void add(long view, LateRows.Left left) {
    List<Reject> late = new ArrayList<>();
    LocalDateTime now = LocalDateTime.now(ZoneOffset.UTC);
    Page rows = left.rows();
    long more = left.more();
    for (int i = 0; i < rows.size(); i++) {
      if (bytes > 2 * MAX_BYTES) {
        more += rows.weight(i);
        continue;
      }
      byte[] row = Arrays.copyOfRange(rows.bytes(), rows.start(i), rows.end(i));
      byte[] message = form.apply(rows.layout(), row);
      String reason = "too late by " + Spans.text(rows.mark(i));
      for (long times = rows.weight(i); times > 0; times--) {
        late.add(new Reject(view, now, reason, null, message, left.step()));
      }
    }
    if (more > 0) {
      String reason = more + " more were too late, and only counted";
      late.add(new Reject(view, now, reason, null, null, left.step()));
    }
    rejects.addAll(late);
    bytes += InputQueue.rejectBytes(late);
  }

  /** Whether sources that would bring more have to wait. */
  synchronized boolean full() {
    return bytes > MAX_BYTES;
  }

  /** Oldest first. */
  public synchronized List<Reject> rejects() {
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
