package dripledger.engine.circuit;

import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.plan.TimeNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;

/**
 * The rows that are in time for windows, each window by itself: d(τ R) = τ(dR). Whether a row is in
 * time is said by the mark it came with ({@link Page#mark}), which depends on the rows before it in
 * its partition and on nothing else; so a row goes by the rule it came by. Without state.
 */
final class TimeWindows implements Operator {
  private final RowLayout input;
  private final int time;
  private final long size;
  private final long slide;
  private final long offset;
  private final boolean tumbles;
  private final boolean grows;
  private final boolean lateOnly; // rows that are late for the first of their windows, not counted
  private final long delay; // −1 if no row is late
  private final LateRows late;
  private final Rejects rejects;
  private final int place;
  private final Page out;
  private final Operator next;
  private final int port;
  private final RuntimeException timeless;
  private long begin; // of the window that was looked at last
  private long end = Long.MIN_VALUE;

  TimeWindows(TimeNode.TimeWindows plan, LateRows late, Rejects rejects, Operator next, int port) {
    input = new RowLayout(plan.input().schema());
    time = plan.time();
    size = plan.sizeMicros();
    slide = plan.slideMicros();
    offset = plan.offsetMicros();
    tumbles = plan.tumbles();
    grows = plan.grows();
    delay = plan.delayMicros();
    lateOnly = plan.rows() == TimeNode.TimeWindows.Rows.PARTLY_LATE;
    this.late = late;
    this.rejects = rejects;
    place = rejects.place(PlanPrinter.step(plan), input);
    out = new Page(new RowLayout(plan.schema()));
    this.next = next;
    this.port = port;
    String name = input.schema().column(time).name();
    timeless = new IllegalArgumentException("\"" + name + "\" is NULL, so it is in no window");
  }

  @Override
  public void push(int fromPort, Page delta) {
    if (tumbles) {
      next.push(port, inTime(delta));
      return;
    }
    for (int i = 0; i < delta.size(); i++) {
      long weight = delta.weight(i);
      byte[] bytes = delta.bytes();
      int row = delta.start(i);
      if (weight == 0) {
        continue;
      }
      if (lateOnly && isTimely(delta, i)) {
        continue;
      }
      if (input.isNull(bytes, row, time)) {
        rejects.add(place, bytes, row, weight, timeless);
      } else {
        each(bytes, row, weight, input.slot(bytes, row, time), mark(delta, i));
      }
      if (out.size() >= ColumnDelta.ROWS) {
        handOn();
      }
    }
    handOn();
  }

  /** Whether a row is in time for the first of its windows, or has no time. */
  private boolean isTimely(Page delta, int i) {
    long mark = mark(delta, i);
    if (mark == Page.UNMARKED || input.isNull(delta.bytes(), delta.start(i), time)) {
      return true;
    }
    return beginOf(input.slot(delta.bytes(), delta.start(i), time)) + slide > mark;
  }

  private void handOn() {
    if (!out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  /** The same rows, and those that are left out with a weight of nothing; nearly always none. */
  private Page inTime(Page delta) {
    Page kept = null;
    for (int i = 0; i < delta.size(); i++) {
      boolean timed = !input.isNull(delta.bytes(), delta.start(i), time);
      if (timed && isInTime(delta, i) || delta.weight(i) == 0) {
        continue;
      }
      if (kept == null) {
        kept = new Page(delta);
      }
      kept.setWeight(i, 0);
      if (timed) {
        countLate(mark(delta, i) - end, delta.weight(i), delta.bytes(), delta.start(i));
      } else {
        rejects.add(place, delta.bytes(), delta.start(i), delta.weight(i), timeless);
      }
    }
    return kept == null ? delta : kept;
  }

  private boolean isInTime(Page delta, int i) {
    long at = input.slot(delta.bytes(), delta.start(i), time);
    if (at < begin || at >= end) {
      begin = beginOf(at);
      end = begin + size;
    }
    return end > mark(delta, i);
  }

  private long mark(Page delta, int i) {
    long mark = delta.mark(i);
    boolean unknown = mark == Page.UNMARKED || mark == Page.EXPIRED;
    return delay < 0 || unknown ? Page.UNMARKED : mark - delay;
  }

  private long beginOf(long at) {
    return at - Math.floorMod(at - offset, slide);
  }

  /** Every window that a row is in, the first to end first. */
  private void each(byte[] bytes, int row, long weight, long at, long mark) {
    boolean complete = true;
    long last = beginOf(at);
    long before = Math.floorDiv(size - 1 - (at - last), slide); // if windows leave gaps, perhaps −1
    long from = at - Math.floorMod(at - offset, size); // of those that grow
    long ends = (grows ? from : last) + size;
    long until = grows ? last + slide : ends - before * slide;
    for (; until <= ends; until += slide) {
      if (until <= mark) {
        if (complete) {
          countLate(mark - until, weight, bytes, row);
        }
        complete = false;
      } else {
        put(bytes, row, weight, grows ? from : until - size, until);
      }
    }
  }

  private void put(byte[] bytes, int row, long weight, long from, long until) {
    RowWriter writer = out.begin();
    writer.copyAll(0, input, bytes, row);
    writer.setLong(input.columns(), from);
    writer.setLong(input.columns() + 1, until);
    out.commit(weight);
  }

  private void countLate(long by, long weight, byte[] bytes, int row) {
    if (weight > 0 && !lateOnly) {
      late.add(by, weight, bytes, row);
    }
  }
}
