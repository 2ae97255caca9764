package dripledger.engine.circuit;

import dripledger.engine.plan.Matches;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import java.nio.ByteBuffer;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.function.Consumer;

/**
 * The matches of a pattern in the rows of each partition.
 *
 * <p>Of rows that are settled it keeps those that are still to come under the watermark or may be
 * in a match, and as many before them as conditions look back ({@link PatternPlaces}); a match is
 * put out once no row to come can change it, and what comes after that is left out and counted. Of
 * others it keeps all, and what it has put out: a partition with a change is gone through anew, and
 * what differs is put out.
 *
 * <p>A condition that cannot be computed is not met; the row is told among the rejects.
 */
final class PatternMatches implements Operator {
  private final OrderedRows rows;
  private final PatternSearch search;
  private final Matches plan;
  private final boolean settled;
  private final boolean once;
  private final int time;
  private final int before;
  private final int ahead;
  private final boolean numbered;
  private final PatternPlaces places; // or null
  private final EndTimes known; // rows up to which time are all there, or null if none ever are
  private final EndTimes deadlines; // of rows that may begin a match, or null
  private final LateRows late; // or null
  private final Page out;
  private final Rejects rejects;
  private final int place;
  private final Operator next;
  private final int port;

  private int[] touched = new int[64]; // partitions
  private int touchedCount;
  private boolean[] isTouched = new boolean[64];
  private final Map<Integer, Found> found = new HashMap<>(); // of those that are not settled
  private long foundBytes;

  /** What a partition has in what was put out. */
  private record Found(List<byte[]> rows, List<PatternSearch.Failure> failures) {
    long bytes() {
      return 64 + rows.stream().mapToLong(row -> 24 + row.length).sum();
    }
  }

  PatternMatches(
      Matches plan, Versions versions, Rejects rejects, LateRows late, Operator next, int port) {
    this.plan = plan;
    this.rejects = rejects;
    this.next = next;
    this.port = port;
    RowLayout input = new RowLayout(plan.input().schema());
    rows = new OrderedRows(input, plan.partition(), plan.order(), versions);
    search = new PatternSearch(plan, rows);
    settled = plan.isSettled();
    once = versions.isOnce();
    time = plan.order().get(0).column();
    before = plan.rowsBefore();
    ahead = plan.rowsAhead();
    numbered = plan.isNumbered();
    places =
        settled && (before > 0 || numbered)
            ? new PatternPlaces(input, plan.partition(), versions)
            : null;
    known = settled ? new EndTimes() : null;
    deadlines = settled && plan.withinMicros() >= 0 ? new EndTimes() : null;
    this.late = late;
    out = new Page(new RowLayout(plan.schema()));
    place = rejects.place(PlanPrinter.step(plan), input);
  }

  @Override
  public void push(int fromPort, Page delta) {
    rows.add(delta);
  }

  @Override
  public void flush(Epoch epoch) {
    if (rows.store.hasChanges()) {
      rows.changes(this::note);
    }
    if (settled) {
      long upTo = EndTimes.upTo(epoch.watermarkMicros(), plan.delayMicros());
      known.endUpTo(upTo, this::due);
      if (deadlines != null) {
        deadlines.endUpTo(upTo, this::due);
      }
    }
    for (int i = 0; i < touchedCount; i++) {
      int partition = touched[i];
      isTouched[partition] = false;
      if (settled) {
        goOn(partition, known.until());
      } else {
        again(partition);
      }
      rows.dropIfEmpty(partition);
    }
    touchedCount = 0;
    rows.forgetRow();
    handOn();
  }

  private void note(int block, long was, long is) {
    if (settled && known.isOver(rows.slot(block, time))) {
      leaveOut(block, was, is);
      return;
    }
    OrderedRows.check(is);
    int partition = rows.partitionOf(block);
    touch(partition);
    if (is > was) {
      rows.insert(partition, rows.sortKey(block), block, is - was);
      noteTimes(block, partition);
    } else {
      rows.remove(partition, rows.sortKey(block), block, was - is);
      rows.dropIfGone(block);
    }
  }

  private void noteTimes(int block, int partition) {
    if (settled) {
      known.add(rows.slot(block, time), partition);
    }
    if (deadlines != null) {
      deadlines.add(rows.slot(block, time) + plan.withinMicros(), partition);
    }
  }

  /** What changes in rows that have been looked at comes too late. */
  private void leaveOut(int block, long was, long is) {
    if (is > was) {
      int start = rows.row(block);
      late.add(known.until() - rows.slot(block, time), is - was, rows.rowBytes(), start);
    }
    rows.weigh(block, was);
    rows.dropIfGone(block);
  }

  /**
   * The partition of a row that is known from now on, or behind whose match nothing more can come;
   * it may be another partition by now.
   */
  private void due(int partition) {
    if (rows.isPartition(partition)) {
      touch(partition);
    }
  }

  private void touch(int partition) {
    if (partition >= isTouched.length) {
      isTouched = Arrays.copyOf(isTouched, Math.max(partition + 1, 2 * isTouched.length));
    }
    if (isTouched[partition]) {
      return;
    }
    isTouched[partition] = true;
    if (touchedCount == touched.length) {
      touched = Arrays.copyOf(touched, 2 * touchedCount);
    }
    touched[touchedCount++] = partition;
  }

  // ---- rows that are settled

  /** Goes on in a partition, as far as its rows are known up to a time. */
  private void goOn(int partition, long upTo) {
    search.show(partition);
    search.endAt(upTo);
    int size = search.size();
    if (size == 0) {
      return;
    }
    int row = rows.row(search.block(0));
    long matches = numbered ? places.matches(rows.rowBytes(), row) : 0;
    int at = before > 0 ? places.before(rows.rowBytes(), row) : 0;
    while (at < size) {
      int limit = search.limit(at);
      boolean ended = limit < size || search.isOver(at, upTo);
      if (limit > size - ahead) {
        limit = Math.max(at, size - ahead);
        ended = false;
      }
      int behind = search.look(at, limit, ended, matches + 1, out);
      if (behind < 0) {
        break;
      }
      matches += search.hasMatched() ? 1 : 0;
      search.failures().forEach(each -> rejects.add(place, each.row(), 0, 1, each.cause()));
      at = behind;
      if (out.size() >= ColumnDelta.ROWS) {
        handOn();
      }
    }
    forget(partition, at, matches);
  }

  /** Forgets the rows that nobody looks at again. */
  private void forget(int partition, int at, long matches) {
    int gone = Math.max(0, at - before);
    if (places != null) {
      int row = rows.row(search.block(0));
      places.set(rows.rowBytes(), row, numbered ? matches : 0, at - gone);
    }
    for (int i = 0; i < gone; i++) {
      int block = search.block(i);
      rows.forget(partition, rows.sortKey(block), block, 1);
    }
  }

  // ---- rows that come and go

  /** Goes through a partition anew, and puts out what differs. */
  private void again(int partition) {
    Found old = found.remove(partition);
    foundBytes -= old == null ? 0 : old.bytes();
    Found now = all(partition);
    putDifference(old == null ? List.of() : old.rows, now.rows);
    if (old != null) {
      old.failures.forEach(each -> rejects.add(place, each.row(), 0, -1, each.cause()));
    }
    now.failures.forEach(each -> rejects.add(place, each.row(), 0, 1, each.cause()));
  }

  /** All that a partition has; if this is done once it is handed on, and not kept. */
  private Found all(int partition) {
    search.show(partition);
    Found all = new Found(new ArrayList<>(), new ArrayList<>());
    Page into = once ? out : new Page(out.layout());
    long matches = 0;
    for (int at = 0; at < search.size(); ) {
      at = search.look(at, search.limit(at), true, matches + 1, into);
      matches += search.hasMatched() ? 1 : 0;
      all.failures.addAll(search.failures());
      if (once && out.size() >= ColumnDelta.ROWS) {
        handOn();
      }
    }
    for (int i = 0; !once && i < into.size(); i++) {
      all.rows.add(Arrays.copyOfRange(into.bytes(), into.start(i), into.end(i)));
    }
    if (!once && search.size() > 0) {
      found.put(partition, all);
      foundBytes += all.bytes();
    }
    return all;
  }

  private void putDifference(List<byte[]> old, List<byte[]> now) {
    Map<ByteBuffer, Integer> counts = new HashMap<>();
    old.forEach(row -> counts.merge(ByteBuffer.wrap(row), -1, Integer::sum));
    now.forEach(row -> counts.merge(ByteBuffer.wrap(row), 1, Integer::sum));
    counts.forEach(
        (row, count) -> {
          if (count != 0) {
            out.append(row.array(), 0, row.array().length, count);
          }
        });
    if (out.size() >= ColumnDelta.ROWS) {
      handOn();
    }
  }

  private void handOn() {
    if (!out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  @Override
  public void durable(Consumer<Durable> into) {
    into.accept(rows.saved());
    if (places != null) {
      places.durable(into);
    }
  }

  @Override
  public void join(Versions graph) {
    rows.join(graph);
    if (places != null) {
      places.join(graph);
    }
  }

  @Override
  public void close() {
    rows.close();
    if (places != null) {
      places.close();
    }
  }

  @Override
  public void restored(long watermark) {
    rows.restored();
    for (int block = 0; block < rows.store.ownLimit(); block++) {
      if (rows.store.isLive(block)) {
        int partition = rows.partitionOf(block);
        touch(partition);
        noteTimes(block, partition);
      }
    }
    if (!settled) {
      for (int i = 0; i < touchedCount; i++) {
        all(touched[i]);
      }
    } else {
      known.restored(EndTimes.upTo(watermark, plan.delayMicros()));
      if (deadlines != null) {
        deadlines.restored(known.until());
      }
    }
    Arrays.fill(isTouched, false);
    touchedCount = 0;
    rows.forgetRow();
  }

  @Override
  public long stateBytes() {
    return rows.heapBytes()
        + foundBytes
        + (places == null ? 0 : places.heapBytes())
        + (known == null ? 0 : known.heapBytes())
        + (deadlines == null ? 0 : deadlines.heapBytes());
  }

  @Override
  public long stateKeys() {
    return rows.store.size();
  }
}
