package dripledger.engine.circuit;

import dripledger.engine.pattern.AfterMatch;
import dripledger.engine.pattern.Automaton;
import dripledger.engine.pattern.Binding;
import dripledger.engine.pattern.Matcher;
import dripledger.engine.plan.Matches;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
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
  private static final int CHUNK = 256;
  static final int MOST_WAYS = 10_000;

  private final OrderedRows rows;
  private final Matcher matcher;
  private final PatternRows values;
  private final PatternRows.Computed[] conditions; // null if any row is of a variable
  private final PatternRows.Computed output;
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
  private final RowWriter none = new RowWriter(new RowLayout(new Schema(List.of())), 64);
  private final Rejects rejects;
  private final int place;
  private final Operator next;
  private final int port;

  private int[] touched = new int[64]; // partitions
  private int touchedCount;
  private boolean[] isTouched = new boolean[64];
  private final Map<Integer, Found> found = new HashMap<>(); // of those that are not settled
  private int[] blocks = new int[CHUNK]; // of the partition that is gone through
  private int size;
  private final List<Failure> failures = new ArrayList<>(); // of the match that is looked for
  private Page target;

  /** What a partition has in what was put out. */
  private record Found(List<byte[]> rows, List<Failure> failures) {}

  private record Failure(byte[] row, RuntimeException cause) {}

  PatternMatches(
      Matches plan, Versions versions, Rejects rejects, LateRows late, Operator next, int port) {
    this.plan = plan;
    this.rejects = rejects;
    this.next = next;
    this.port = port;
    RowLayout input = new RowLayout(plan.input().schema());
    rows = new OrderedRows(input, plan.partition(), plan.order(), versions);
    matcher = new Matcher(Automaton.of(plan.pattern()), plan.judgesRowsAlone(), MOST_WAYS);
    values = new PatternRows(rows, plan.variables());
    conditions = new PatternRows.Computed[plan.variables().size()];
    for (int i = 0; i < conditions.length; i++) {
      Matches.Made condition = plan.variables().get(i).condition();
      conditions[i] = condition == null ? null : values.of(condition);
    }
    output = values.of(plan.output());
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
    target = out;
    place = rejects.place(PlanPrinter.step(plan), input);
  }

  @Override
  public void push(int fromPort, Page delta) {
    for (int from = 0; from < delta.size(); from += CHUNK) {
      rows.add(delta, from, Math.min(CHUNK, delta.size() - from));
    }
  }

  @Override
  public void flush(Epoch epoch) {
    rows.forgetRow();
    if (rows.store.hasChanges()) {
      rows.store.changes(this::note);
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

  private void note(int block, boolean wasLive, boolean isLive, long[] record, int old) {
    long was = wasLive ? OrderedRows.weight(record, old) : 0;
    long is = isLive ? rows.weight(block) : 0;
    if (was == is) {
      rows.dropIfGone(block);
      return;
    }
    if (settled && known.isOver(rows.slot(block, time))) {
      leaveOut(block, was, is);
      return;
    }
    if (is < 0) {
      throw new IllegalStateException("a row was taken out more often than it was put in");
    }
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
      late.add(known.until() - rows.slot(block, time), is - was);
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
    show(partition);
    if (size > 0 && isLater(size - 1, upTo)) {
      size = firstLater(0, upTo);
      values.show(blocks, size);
    }
    if (size == 0) {
      return;
    }
    int row = rows.row(blocks[0]);
    long matches = numbered ? places.matches(rows.rowBytes(), row) : 0;
    int from = before > 0 ? places.before(rows.rowBytes(), row) : 0;
    int at = from;
    while (at < size) {
      int limit = limit(at);
      boolean ended = limit < size;
      if (plan.withinMicros() >= 0) {
        ended |= upTo >= rows.slot(blocks[at], time) + plan.withinMicros();
      }
      if (limit > size - ahead) {
        limit = Math.max(at, size - ahead);
        ended = false;
      }
      int behind = look(at, limit, ended, matches + 1);
      if (behind < 0) {
        break;
      }
      matches += matched ? 1 : 0;
      settleFailures();
      at = behind;
    }
    forget(partition, at, matches);
  }

  /** Forgets the rows that nobody looks at again. */
  private void forget(int partition, int at, long matches) {
    int gone = Math.max(0, at - before);
    if (places != null) {
      int row = rows.row(blocks[0]);
      places.set(rows.rowBytes(), row, numbered ? matches : 0, at - gone);
    }
    for (int i = 0; i < gone; i++) {
      rows.forget(partition, rows.sortKey(blocks[i]), blocks[i], 1);
    }
  }

  private void settleFailures() {
    for (Failure each : failures) {
      rejects.add(place, each.row, 0, 1, each.cause);
    }
  }

  // ---- rows that come and go

  /** Goes through a partition anew, and puts out what differs. */
  private void again(int partition) {
    Found old = found.remove(partition);
    Found now = search(partition);
    putDifference(old == null ? List.of() : old.rows, now.rows);
    if (old != null) {
      old.failures.forEach(each -> rejects.add(place, each.row, 0, -1, each.cause));
    }
    now.failures.forEach(each -> rejects.add(place, each.row, 0, 1, each.cause));
  }

  /** All that a partition has; if this is done once it is handed on, and not kept. */
  private Found search(int partition) {
    show(partition);
    Found all = new Found(new ArrayList<>(), new ArrayList<>());
    target = once ? out : new Page(out.layout());
    long matches = 0;
    for (int at = 0; at < size; ) {
      at = look(at, limit(at), true, matches + 1);
      matches += matched ? 1 : 0;
      all.failures.addAll(failures);
      for (int i = 0; !once && i < target.size(); i++) {
        all.rows.add(Arrays.copyOfRange(target.bytes(), target.start(i), target.end(i)));
      }
      if (!once) {
        target.clear();
      } else if (out.size() >= ColumnDelta.ROWS) {
        handOn();
      }
    }
    target = out;
    if (!once && size > 0) {
      found.put(partition, all);
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

  // ---- both

  private void show(int partition) {
    long run = rows.run(partition);
    size = run == 0 ? 0 : rows.runs.size(run);
    if (blocks.length < size) {
      blocks = new int[Math.max(size, 2 * blocks.length)];
    }
    for (int from = 0; from < size; ) {
      from += rows.runs.read(run, from, blocks, from, size - from);
    }
    values.show(blocks, size);
  }

  /** The first position that is too late for a match that begins at one. */
  private int limit(int start) {
    if (plan.withinMicros() < 0 || rows.isNull(blocks[start], time)) {
      return size;
    }
    long last = rows.slot(blocks[start], time) + plan.withinMicros();
    if (!isLater(size - 1, last)) {
      return size;
    }
    return firstLater(start, last);
  }

  private int firstLater(int from, long last) {
    int low = from;
    int high = size - 1;
    while (low < high) {
      int middle = (low + high) >>> 1;
      if (isLater(middle, last)) {
        high = middle;
      } else {
        low = middle + 1;
      }
    }
    return low;
  }

  private boolean isLater(int position, long than) {
    return rows.isNull(blocks[position], time) || rows.slot(blocks[position], time) > than;
  }

  private boolean matched;

  /**
   * Looks for a match that begins at a position, and puts it out.
   *
   * @return where the next may begin, or −1 if rows to come decide
   */
  private int look(int start, int limit, boolean ended, long number) {
    failures.clear();
    matched = false;
    if (plan.anchors().start() && start > 0) {
      return size;
    }
    values.number(number);
    Matcher.Outcome outcome =
        matcher.find(
            start, limit, ended, plan.anchors().end() ? size : Matcher.ANYWHERE, this::meets);
    if (outcome == Matcher.Outcome.OPEN) {
      return -1;
    }
    if (outcome == Matcher.Outcome.TOO_MANY) {
      fail(start, new IllegalStateException("a match has more than " + MOST_WAYS + " ways to go"));
      return start + 1;
    }
    Binding match = matcher.match();
    int end = match == null ? start : match.position() + 1;
    if (outcome == Matcher.Outcome.NONE) {
      return start + 1;
    }
    matched = true;
    put(match, start);
    return match == null ? start + 1 : behind(match, start, end);
  }

  private boolean meets(Binding with) {
    PatternRows.Computed condition = conditions[with.variable()];
    if (condition == null) {
      return true;
    }
    none.truncate(0);
    none.begin();
    try {
      return condition.run(with, with, with.position(), none);
    } catch (RuntimeException e) {
      fail(with.position(), e);
      return false;
    }
  }

  private void fail(int position, RuntimeException cause) {
    int start = rows.row(blocks[position]);
    int length = rows.layout.length(rows.rowBytes(), start);
    byte[] row = Arrays.copyOfRange(rows.rowBytes(), start, start + length);
    failures.add(new Failure(row, cause));
  }

  private int behind(Binding match, int start, int end) {
    AfterMatch after = plan.after();
    switch (after.place()) {
      case PAST_LAST_ROW -> {
        return end;
      }
      case NEXT_ROW -> {
        return start + 1;
      }
      default -> {
        int found = -1;
        boolean last = after.place() == AfterMatch.Place.LAST_OF;
        for (Binding each = match; each != null; each = each.before()) {
          if (after.of().contains(each.variable()) && !(last && found >= 0)) {
            found = each.position();
          }
        }
        if (found <= start) {
          String why = found < 0 ? "has no row in the match" : "is its first row";
          fail(start, new IllegalStateException("the row that AFTER MATCH SKIP names " + why));
          return start + 1;
        }
        return found;
      }
    }
  }

  private void put(Binding match, int start) {
    if (!plan.allRows() || match == null) {
      put(match, match, start);
      return;
    }
    Binding[] all = new Binding[match.count()];
    for (Binding each = match; each != null; each = each.before()) {
      all[each.count() - 1] = each;
    }
    for (Binding each : all) {
      if (!each.excluded()) {
        put(each, match, each.position());
      }
    }
  }

  private void put(Binding running, Binding match, int own) {
    if (settled && out.size() >= ColumnDelta.ROWS) {
      handOn();
    }
    RowWriter writer = target.begin();
    try {
      output.run(running, match, own, writer);
      target.commit(1);
    } catch (RuntimeException e) {
      target.abort();
      fail(own, e);
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
        search(touched[i]);
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
    long put = 0;
    for (Found each : found.values()) {
      put += 64;
      for (byte[] row : each.rows) {
        put += 24 + row.length;
      }
    }
    return rows.heapBytes()
        + put
        + (places == null ? 0 : places.heapBytes())
        + (known == null ? 0 : known.heapBytes())
        + (deadlines == null ? 0 : deadlines.heapBytes());
  }

  @Override
  public long stateKeys() {
    return rows.store.size();
  }
}
