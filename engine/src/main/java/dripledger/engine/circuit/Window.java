package dripledger.engine.circuit;

import dripledger.engine.expr.Frame;
import dripledger.engine.expr.WindowCall;
import dripledger.engine.plan.Ending;
import dripledger.engine.plan.KeptPlaces;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.function.Consumer;

/**
 * Window functions, and the first rows of each partition: for every partition p that dR touches,
 * d(ω R) = −ω(p)[A] + ω'(p)[A], where A are the rows in reach of a change: see {@link WindowReach}.
 *
 * <p>State: the rows of the input in order ({@link OrderedRows}); no result is kept. At the end of
 * an epoch the rows in reach are walked as they were and as they are, side by side; what is said of
 * a row is computed for both, and is put out if it differs. Of functions that reach to the end of a
 * partition the walk ends where both agree again, or where no row is kept any more; so the first n
 * of a partition cost the search for the place of the change and at most n rows. Of large
 * partitions what functions have added up is saved every {@value #SAVED_EVERY} rows, so that a row
 * that comes at the end costs no walk from the start.
 *
 * <p>Rows that are equal in the order are told apart by all their columns; equal rows are numbered
 * one by one. Of an input that takes no row out, rows that are not kept are forgotten; so are all
 * of a partition that has ended ({@link PlanNode.Window#ending}).
 */
final class Window implements Operator {
  private static final int SAVED_EVERY = 512;

  private final OrderedRows rows;
  private final WindowReach reach;
  private final PartitionViews views;
  private final KeptPlaces kept;
  private final long needed; // rows of a partition, or −1 for all
  private final WindowFunction[][] functions; // as it was, as it is
  private final WindowFunction[] ranking = new WindowFunction[2]; // which rows are kept by, or null
  private final boolean saves;
  private final Map<Integer, List<Saved>> savedOf = new HashMap<>(); // by partition
  private final Ending ending; // of partitions, or null
  private final RowEnds ends;
  private final Page out;
  private final int inputColumns;
  private final Rejects rejects;
  private final int place;
  private final Operator next;
  private final int port;

  // The rows that change, in the order they were found.
  private int count;
  private int[] blocks = new int[64];
  private long[] was = new long[64];
  private long[] is = new long[64];
  private long[] keys = new long[64];
  private int[] partitions = new int[64];

  /**
   * What functions have added up before a row.
   *
   * @param row its rank
   * @param rows how many of the first rows it stands for
   */
  private record Saved(int row, int rows, Object[] states) {}

  /**
   * @param next who takes the changes, or null if they stay in {@link #output}
   */
  Window(PlanNode.Window plan, Versions versions, Rejects rejects, Operator next, int port) {
    this.rejects = rejects;
    this.next = next;
    this.port = port;
    RowLayout input = new RowLayout(plan.input().schema());
    inputColumns = input.columns();
    rows = new OrderedRows(input, plan.partition(), plan.order(), versions);
    reach = new WindowReach(plan, rows);
    views = new PartitionViews(rows);
    kept = plan.kept();
    needed = plan.rowsNeeded();
    ending = plan.ending();
    ends = ending == null ? null : new RowEnds(rows, ending.column());
    int calls = plan.calls().size() + (kept == null ? 0 : 1);
    functions = new WindowFunction[2][calls];
    for (int view = 0; view < 2; view++) {
      for (int i = 0; i < plan.calls().size(); i++) {
        functions[view][i] = WindowFunctions.of(plan.calls().get(i), rows, plan.order());
      }
      if (kept != null) {
        WindowCall call =
            new WindowCall(kept.ranking(), List.of(), 0, null, Frame.WHOLE, false, null);
        ranking[view] = WindowFunctions.of(call, rows, plan.order());
        functions[view][calls - 1] = ranking[view];
      }
    }
    saves = reach.fromFirst && !reach.allBefore && plan.calls().stream().allMatch(Window::canSave);
    out = new Page(new RowLayout(plan.schema()));
    place = rejects.place(PlanPrinter.step(plan), input);
  }

  /** Whether what a call adds up from the first row on can be saved: not if rows are left out. */
  private static boolean canSave(WindowCall call) {
    return call.function() != WindowCall.Function.AGGREGATE
        || !call.frame().startsFirst()
        || call.frame().exclusion() == Frame.Exclusion.NONE;
  }

  @Override
  public void push(int fromPort, Page delta) {
    rows.add(delta);
  }

  @Override
  public void flush(Epoch epoch) {
    if (rows.store.hasChanges()) {
      takeIn();
    }
    if (ends != null) {
      rows.forgetRow();
      ends.endUpTo(EndTimes.upTo(epoch.watermarkMicros(), ending.delayMicros()), this::end);
    }
  }

  /** Nothing changes in a row's partition any more: what was put out of it stays. */
  private void end(int block) {
    int partition = rows.partitionOf(block);
    rows.forget(partition, rows.sortKey(block), block, rows.weight(block));
    savedOf.remove(partition);
    rows.dropIfEmpty(partition);
  }

  private void takeIn() {
    count = 0;
    rows.changes(this::note);
    for (int i = 0; i < count; i++) {
      partitions[i] = rows.partitionOf(blocks[i]);
      keys[i] = rows.sortKey(blocks[i]);
    }
    Integer[] order = new Integer[count];
    Arrays.setAll(order, i -> i);
    Arrays.sort(order, this::compare);
    for (int from = 0, to; from < count; from = to) {
      int partition = partitions[order[from]];
      to = from + 1;
      while (to < count && partitions[order[to]] == partition) {
        to++;
      }
      step(partition, order, from, to);
    }
    rows.forgetRow();
    handOn();
  }

  private void note(int block, long before, long now) {
    if (ends != null && before == 0) {
      if (ends.drops(block)) {
        return;
      }
      ends.note(block);
    }
    OrderedRows.check(now);
    if (count == blocks.length) {
      int larger = count * 2;
      blocks = Arrays.copyOf(blocks, larger);
      was = Arrays.copyOf(was, larger);
      is = Arrays.copyOf(is, larger);
      keys = Arrays.copyOf(keys, larger);
      partitions = Arrays.copyOf(partitions, larger);
    }
    blocks[count] = block;
    was[count] = before;
    is[count++] = now;
  }

  private int compare(int a, int b) {
    if (partitions[a] != partitions[b]) {
      return Integer.compare(partitions[a], partitions[b]);
    }
    return keys[a] != keys[b]
        ? Long.compare(keys[a], keys[b])
        : a == b ? 0 : rows.compare(blocks[a], blocks[b]);
  }

  /** Takes the changes of one partition in. */
  private void step(int partition, Integer[] order, int from, int to) {
    views.count = 0;
    for (int i = from; i < to; i++) {
      int c = order[i];
      views.addChange(blocks[c], keys[c], was[c], is[c]);
      if (is[c] > was[c]) {
        rows.insert(partition, keys[c], blocks[c], is[c] - was[c]);
      }
    }
    views.begin(rows.run(partition));
    evaluate(partition);
    for (int i = from; i < to; i++) {
      int c = order[i];
      if (was[c] > is[c]) {
        rows.remove(partition, keys[c], blocks[c], was[c] - is[c]);
        rows.dropIfGone(blocks[c]);
      }
    }
    if (needed >= 0) {
      forgetRest(partition);
    }
    if (rows.run(partition) == 0) {
      savedOf.remove(partition);
      rows.dropIfEmpty(partition);
    }
  }

  /** Forgets rows that will never be needed. */
  private void forgetRest(int partition) {
    while (rows.runs.size(rows.run(partition)) > needed) {
      int block = rows.runs.last(rows.run(partition));
      rows.forget(partition, rows.sortKey(block), block, 1);
    }
  }

  /** Walks what is in reach of the changes. */
  private void evaluate(int partition) {
    int last = views.count - 1;
    if (reach.allAfter) {
      int from = reach.firstTouched(views, views.places[0], 0);
      walk(partition, from, views.size() - 1, lastOf(last, -1));
      return;
    }
    int from = reach.firstTouched(views, views.places[0], 0);
    int to = -1;
    for (int c = 0; c <= last; c++) {
      if (c < last && views.places[c + 1] <= views.places[c] + views.copies(c)) {
        continue; // what it reaches, its neighbour does too
      }
      to = lastOf(c, to);
      int behind = c < last ? reach.firstTouched(views, views.places[c + 1], to + 1) : 0;
      if (c == last || behind > to + 1) {
        walk(partition, from, to, to);
        from = behind;
      }
    }
  }

  private int lastOf(int change, int known) {
    int place = views.places[change] + views.copies(change) - 1;
    return reach.lastTouched(views, place, known);
  }

  /**
   * Puts out how places of a partition differ.
   *
   * @param surely up to where they may differ even if functions that reach to the end agree
   */
  private void walk(int partition, int from, int to, int surely) {
    Saved known = null;
    List<Saved> all = saves ? savedOf.getOrDefault(partition, List.of()) : List.of();
    for (Saved each : all) {
      if (each.row <= from && each.rows <= views.places[0]) {
        known = each;
      }
    }
    boolean anew = reach.fromFirst && known == null;
    int start = anew ? 0 : reach.firstRead(views, from);
    views.readFrom(known == null ? start : Math.min(start, known.row));
    for (int i = 0; i < functions[0].length; i++) {
      Object state = known == null ? null : known.states[i];
      functions[0][i].begin(views.before, state);
      functions[1][i].begin(views.after, state);
    }
    List<Saved> made = new ArrayList<>();
    int savedAt = known == null ? 0 : known.row;
    int old = views.before.first();
    int now = views.after.first();
    int stopped = Integer.MAX_VALUE;
    while (true) {
      int oldPlace = old < views.before.total() ? views.before.place(old) : Integer.MAX_VALUE;
      int newPlace = now < views.after.total() ? views.after.place(now) : Integer.MAX_VALUE;
      int at = Math.min(oldPlace, newPlace);
      if (at > to) {
        break;
      }
      boolean wasHere = oldPlace == at;
      boolean isHere = newPlace == at;
      if (at >= from) {
        boolean oldIn = wasHere && isKept(0, old);
        boolean newIn = isHere && isKept(1, now);
        emit(oldIn ? old : -1, newIn ? now : -1);
        if (saves && isHere && now >= savedAt + SAVED_EVERY) {
          savedAt = now;
          save(now, made);
        }
        if (at > surely && reach.allAfter && wasHere && isHere && agree(old, now)) {
          stopped = now;
          break;
        }
        if (kept != null && isPast(0, views.before, old) && isPast(1, views.after, now)) {
          break;
        }
      }
      old += wasHere ? 1 : 0;
      now += isHere ? 1 : 0;
    }
    if (saves) {
      keepSaved(partition, all, made, from, stopped);
    }
  }

  private boolean isKept(int view, int rank) {
    if (kept == null) {
      return true;
    }
    long at = ranking[view].place(rank);
    return at > kept.after() && at <= kept.to();
  }

  /** Whether no row from here on is kept. */
  private boolean isPast(int side, PartitionViews.View view, int rank) {
    return rank >= view.total() || ranking[side].place(rank) > kept.to();
  }

  /** Whether nothing that follows the same row can differ. */
  private boolean agree(int old, int now) {
    if (old != now) {
      return false;
    }
    for (int i = 0; i < functions[0].length; i++) {
      if (!functions[0][i].agrees(functions[1][i], now)) {
        return false;
      }
    }
    return true;
  }

  private void save(int row, List<Saved> into) {
    Object[] states = new Object[functions[1].length];
    int rowCount = 0;
    for (int i = 0; i < states.length; i++) {
      states[i] = functions[1][i].save();
      if (states[i] != null) {
        rowCount = Math.max(rowCount, functions[1][i].savedRows(states[i]));
      }
    }
    into.add(new Saved(row, rowCount, states));
  }

  /** Drops what was saved of rows that have changed. */
  private void keepSaved(int partition, List<Saved> all, List<Saved> made, int from, int stopped) {
    List<Saved> valid = new ArrayList<>();
    for (Saved each : all) {
      if (each.row <= from && each.rows <= views.places[0]) {
        valid.add(each);
      }
    }
    valid.addAll(made);
    for (Saved each : all) {
      if (stopped != Integer.MAX_VALUE && each.row > stopped) {
        valid.add(each);
      }
    }
    if (valid.isEmpty()) {
      savedOf.remove(partition);
    } else {
      savedOf.put(partition, valid);
    }
  }

  /** Puts out the row of a rank as it was and as it is, unless that is the same; −1 is none. */
  private void emit(int old, int now) {
    boolean same =
        functions[0].length == (kept == null ? 0 : 1)
            && old >= 0
            && now >= 0
            && views.before.block(old) == views.after.block(now);
    if (old < 0 && now < 0 || same) {
      return;
    }
    int size = out.size();
    boolean wasPut = old >= 0 && put(0, views.before.block(old), old, -1);
    boolean isPut = now >= 0 && put(1, views.after.block(now), now, 1);
    if (wasPut && isPut) {
      int length = out.end(size) - out.start(size);
      if (out.end(size + 1) - out.start(size + 1) == length
          && Bytes.equal(out.bytes(), out.start(size), out.bytes(), out.start(size + 1), length)) {
        out.truncate(size);
      }
    }
    if (out.size() >= ColumnDelta.ROWS) {
      handOn();
    }
  }

  private boolean put(int view, int block, int rank, long weight) {
    RowWriter writer = out.begin();
    try {
      rows.write(block, writer);
      int calls = out.layout().columns() - inputColumns;
      for (int i = 0; i < calls; i++) {
        functions[view][i].write(rank, writer, inputColumns + i);
      }
      out.commit(weight);
      return true;
    } catch (RuntimeException e) {
      out.abort();
      int start = rows.row(block);
      rejects.add(place, rows.rowBytes(), start, weight, e);
      return false;
    }
  }

  private void handOn() {
    if (next != null && !out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  /** Where changes are gathered, if nobody takes them; the owner clears it. */
  Page output() {
    return out;
  }

  @Override
  public void durable(Consumer<Durable> into) {
    into.accept(rows.saved());
  }

  @Override
  public void join(Versions graph) {
    rows.join(graph);
  }

  @Override
  public void close() {
    rows.close();
  }

  @Override
  public void restored(long watermark) {
    rows.restored();
    if (ends != null) {
      ends.restored(EndTimes.upTo(watermark, ending.delayMicros()));
    }
  }

  @Override
  public long stateBytes() {
    long states = 0;
    for (List<Saved> each : savedOf.values()) {
      states += 48L + each.size() * (48L + 64L * functions[1].length);
    }
    return rows.heapBytes() + states + (ends == null ? 0 : ends.heapBytes());
  }

  @Override
  public long stateKeys() {
    return rows.store.size();
  }
}
