package dripledger.engine.plan;

import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.List;

/** Nodes that do with rows what their times say. */
public sealed interface TimeNode extends PlanNode.OfOne {
  /**
   * The rows of the input that come in time for windows of event time. A row is left out of a
   * window that had ended, by its partition's own watermark, when the row came; and one without a
   * time is in none. Windows are as long as each other, and each begins {@code slide} after the one
   * before.
   *
   * @param time the column of the time
   * @param sizeMicros how long a window is, in microseconds
   * @param slideMicros from one window to the next; if it is the size, a row is in one window, and
   *     which one is for who asks to compute
   * @param grows whether windows do not slide: those of one size begin together, each longer than
   *     the one before by the slide
   * @param offsetMicros where a window begins, counted from 1970
   * @param delayMicros how far the watermark follows behind that time; −1 if no row can be late
   * @param rows which rows
   * @param reachMicros how much longer than they are what they hold is read, {@link
   *     Rows#FOR_SLICES}
   * @param schema the columns of the input; if windows overlap, then {@code window_start} and
   *     {@code window_end} of each that a row is in
   */
  record TimeWindows(
      PlanNode input,
      int time,
      long sizeMicros,
      long slideMicros,
      boolean grows,
      long offsetMicros,
      long delayMicros,
      Rows rows,
      long reachMicros,
      Schema schema)
      implements TimeNode {
    /** Which rows are put into windows, and what they are. */
    public enum Rows {
      /** All, each by its own time. */
      ALL,
      /** All; others put what these windows hold into longer ones that overlap. */
      FOR_SLICES,
      /** Slices of time, each in the windows that hold all of it. */
      OF_SLICES,
      /** Those alone that came too late for the first of their windows, which others count. */
      PARTLY_LATE
    }

    /** Whether a row is in one window only. */
    public boolean tumbles() {
      return sizeMicros == slideMicros;
    }

    @Override
    public boolean appendOnly() {
      return input.appendOnly();
    }

    @Override
    public List<Integer> key() {
      if (tumbles() || input.key() == null) {
        return input.key();
      }
      List<Integer> key = new ArrayList<>(input.key());
      key.add(input.schema().size() + (grows ? 1 : 0));
      return key;
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.timeWindows(this);
    }
  }

  /**
   * The rows of the input with the beginning of their session: rows of a partition of which none is
   * a whole gap behind the one before, by a time of theirs that is not NULL.
   *
   * @param delayMicros how far the watermark follows behind that time; −1 if rows may always come
   * @param withdrawMicros how long after no row can lengthen a session its rows are taken out; −1
   *     for never
   * @param merged whether rows are left to themselves, each a session of its own: the aggregate
   *     above makes one of those that belong together, see {@link SessionGroups#merged}
   * @param schema the columns of the input, then {@code window_start}
   */
  record Sessions(
      PlanNode input,
      List<Integer> partition,
      int time,
      long gapMicros,
      long delayMicros,
      long withdrawMicros,
      boolean merged,
      Schema schema)
      implements TimeNode {
    public Sessions {
      partition = List.copyOf(partition);
    }

    @Override
    public boolean appendOnly() {
      return merged;
    }

    @Override
    public List<Integer> key() {
      return input.key();
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.sessions(this);
    }
  }

  /**
   * The rows of the input, each once it can no longer change: when the watermark has reached a time
   * of the row. What an input changes in rows that have been put out is left out.
   *
   * @param time the column of the time; a row without one is put out at once
   * @param delayMicros how far behind that time the watermark must be
   * @param keepMicros how much later a row is taken out again; −1 for never
   * @param atOnce whether rows do not wait: they can change no more when they come
   */
  record Settle(PlanNode input, int time, long delayMicros, long keepMicros, boolean atOnce)
      implements TimeNode {
    @Override
    public Schema schema() {
      return input.schema();
    }

    @Override
    public boolean appendOnly() {
      return keepMicros < 0;
    }

    @Override
    public List<Integer> key() {
      return input.key();
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.settle(this);
    }
  }

  /**
   * The rows of the input with, in the place of its last columns, which are times, whether the
   * current time has reached them.
   *
   * @param times how many these are
   */
  record Reached(PlanNode input, int times, Schema schema) implements TimeNode {
    @Override
    public boolean appendOnly() {
      return false;
    }

    @Override
    public List<Integer> key() {
      List<Integer> key = input.key();
      int kept = schema.size() - times;
      return key == null || key.stream().anyMatch(c -> c >= kept) ? null : key;
    }

    @Override
    public <T> T accept(PlanVisitor<T> visitor) {
      return visitor.reached(this);
    }
  }
}
