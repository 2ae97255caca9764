package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.plan.SessionGroups;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.BitSet;
import java.util.function.Consumer;

/**
 * GROUP BY and DISTINCT: for every group g that dR touches, d(γ R) = −old(g) + new(g).
 *
 * <p>State: one block a group in a {@link KeyedStore}. Its key is the group columns, its state the
 * number of rows in the group, the words of the accumulators, and the results of calls that must be
 * looked for among all values. Rows are added up in place; {@link #flush} walks what the version
 * has changed and makes the old and the new rows of it, leaving out groups whose row is the same.
 *
 * <p>MIN, MAX and their kin over an input that takes rows out need every value of the group in
 * order: see {@link OrderedValues}. DISTINCT calls keep a count a value and pass on only the first
 * and the last: see {@link ValueCounts}.
 *
 * <p>Corner cases: without group columns there is always exactly one row, also of no input (emitted
 * by {@link #start}); a result that does not fit its type rejects the group's row and nothing else;
 * two NULLs are the same group.
 */
final class GroupAggregate implements Operator, StoredRows {
  private static final int HANDED_ON = 512; // rows that readers are given at once

  // Whether a group has a row, as kept in its state.
  private static final long SHOWN = 0;
  private static final long FAILS = 2;
  private static final long GONE = 3;

  private final boolean global;
  private final RowLayout input;
  private final GroupKeys keys;
  private final GroupState state;
  private final KeyedStore groups;
  private final AggregateKernel kernel;
  private final boolean plainRows; // of fixed size, and none can fail
  private final boolean mayBeSame; // whether a row may stay the same although its state changed
  private final RowLayout groupLayout;
  private final int shownAt; // the word that says whether the row is shown, or −1: always
  private final Page out;
  private boolean rowsWanted = true;
  private DeltaReaders readers;
  private ColumnDelta columns; // what readers are given instead of rows, or null
  private long shown;
  private long changed;
  private long membership;
  private long rowChanges;
  private final GroupOrders orders;
  private final Rejects rejects;
  private final int place;
  private final Operator next;
  private final int port;
  private final GroupEnds ends; // or null if groups never end
  private final GroupIntake intake;
  private final boolean takesColumns;
  private final BitSet expired = new BitSet(); // blocks of groups that end in this epoch

  /**
   * @param late counts what comes for groups that have ended
   * @param next who takes the changes, or null if they stay in {@link #output}
   */
  GroupAggregate(
      PlanNode.Aggregate plan,
      Versions versions,
      Rejects rejects,
      LateRows late,
      Operator next,
      int port) {
    this.rejects = rejects;
    this.next = next;
    this.port = port;
    input = new RowLayout(plan.input().schema());
    int[] groupColumns = plan.groupColumns().stream().mapToInt(Integer::intValue).toArray();
    global = groupColumns.length == 0;
    keys = new GroupKeys(input, groupColumns);
    place = rejects.place(PlanPrinter.step(plan), keys.layout());
    groupLayout = new RowLayout(plan.schema());
    out = new Page(groupLayout);
    orders = new GroupOrders(groupLayout, keys, this::row);
    state = new GroupState(plan, input, keys, versions);
    groups = state.groups();
    shownAt = state.shownAt();
    mayBeSame = state.slots().stream().noneMatch(AggregateKernel.Slot::tellsEveryChange);
    kernel = AggregateKernel.of(state.slots(), input, keys, groupLayout);
    plainRows = kernel.writesRows() && shownAt < 0;
    if (SessionGroups.merged(plan) != null) {
      MergedSessions sessions = new MergedSessions(plan, input, keys, state, kernel, versions);
      ends = sessions;
      intake = sessions;
    } else {
      TimedGroups timed =
          plan.ending() == null
              ? null
              : new TimedGroups(plan.ending(), input, groupColumns, keys, groups, late);
      ends = timed;
      intake = new KeyedIntake(input, keys, state, kernel, timed);
    }
    takesColumns = kernel.addsColumns() && intake instanceof KeyedIntake;
  }

  @Override
  public void start() {
    if (global) {
      long[] none = new long[keys.words()];
      groups.changeOrInsert(groups.hashOf(none, 0), none, 0);
    }
  }

  @Override
  public void push(int fromPort, Page delta) {
    intake.take(delta);
  }

  /** Who is given the rows that change, piece by piece; null if they stay in {@link #output}. */
  void readers(DeltaReaders sink) {
    readers = sink;
  }

  /** Says which columns are read of what it changes, if that is all; null if rows are. */
  void columnsRead(boolean[] wanted) {
    columns = wanted == null || !plainRows ? null : new ColumnDelta(wanted);
  }

  /** Whether it can take changes of its input by columns. */
  boolean takesColumns() {
    return takesColumns;
  }

  /** Adds the columns of its input that it reads. */
  void addColumnsRead(boolean[] wanted) {
    kernel.columnsRead(wanted);
  }

  /** Takes in a delta of its input by columns. */
  void push(ColumnDelta delta) {
    intake.take(delta);
  }

  /** Whether somebody reads the rows that change; otherwise they are not made. */
  void rowsWanted(boolean value) {
    rowsWanted = value;
  }

  /** Appends a group's row from its key and a state; answers whether it is shown. */
  private long emit(long[] keyPage, int key, long[] words, int at, long weight) {
    if (columns != null && readers != null) {
      int i = columns.size++;
      columns.nulls[i] = 0;
      columns.weights[i] = weight;
      kernel.columns(keyPage, key, words, at, columns.columns, columns.nulls, i);
      return SHOWN;
    }
    if (plainRows) {
      int to = out.appendFixed(weight);
      kernel.row(keyPage, key, words, at, out.bytes(), to);
      return SHOWN;
    }
    RowWriter writer = out.begin();
    try {
      row(keyPage, key, words, at, writer);
      out.commit(weight);
      return SHOWN;
    } catch (RuntimeException e) {
      out.abort();
      rejects.add(place, keys.row(keyPage, key), 0, weight, e);
      return FAILS;
    }
  }

  /** Sets the columns of a group's row from its key and a state. Any thread. */
  private void row(long[] keyPage, int key, long[] words, int at, RowWriter writer) {
    keys.write(keyPage, key, writer);
    kernel.write(words, at, writer, state);
  }

  @Override
  public void flush(Epoch epoch) {
    changed = 0;
    if (ends == null) {
      settleAndHandOn();
    } else if (!ends.publish()) {
      endGroups(epoch.watermarkMicros());
      settleAndHandOn();
      expired.clear();
    } else {
      boolean wanted = rowsWanted;
      rowsWanted = false; // until they end
      settleAndHandOn();
      rowsWanted = wanted;
      endGroups(epoch.watermarkMicros());
      shown = groups.size();
      membership++;
      handOn();
    }
  }

  private void endGroups(long watermark) {
    ends.endUpTo(watermark, this::endGroup);
    state.endValuesUpTo(ends.over());
  }

  private void endGroup(int block) {
    long[] page = groups.page(block);
    int at = groups.state(block);
    if (ends.publish() && rowsWanted && (shownAt < 0 || page[at + shownAt] == SHOWN)) {
      emit(page, groups.header(block) + 1, page, at, 1);
      changed++;
      if (out.size() >= HANDED_ON || isFull(columns)) {
        handOn();
      }
    }
    if (ends.publish()) { // otherwise it is a change like any other
      orders.group(page, groups.header(block) + 1, block, -1);
    }
    if (!ends.publish()) {
      expired.set(block);
    }
    groups.change(block);
    state.end(block);
    groups.remove(block);
  }

  /** Makes of what has changed the rows that are wanted. */
  private void settleAndHandOn() {
    if (!groups.hasChanges()) {
      return;
    }
    rowChanges++;
    if (rowsWanted && mayGoByColumns()) {
      groups.changeRecords(this::handOnColumns);
      changed = groups.changeCount();
      keysHaveCome();
    } else if (rowsWanted
        || shownAt >= 0
        || state.anyOrdered()
        || groups.mayHaveEnded()
        || orders.needChanges()) {
      groups.changes(this::settleAndEmit);
    } else {
      changed = groups.changeCount();
      keysHaveCome();
    }
    handOn();
  }

  /** Whether all that has to be done for a change is in generated code. */
  private boolean mayGoByColumns() {
    return columns != null
        && readers != null
        && shownAt < 0
        && !state.anyOrdered()
        && !groups.mayHaveEnded()
        && !orders.needChanges();
  }

  private void handOnColumns(long[] records, int from, int end, int step) {
    if (columns.size > ColumnDelta.ROWS - 2 * KeyedStore.AHEAD) {
      handOn();
    }
    columns.size =
        kernel.changes(
            groups,
            records,
            from,
            end,
            step,
            columns.columns,
            columns.nulls,
            columns.weights,
            columns.size);
  }

  /** After changes by which no key has gone. */
  private void keysHaveCome() {
    if (shown != groups.size()) {
      shown = groups.size();
      membership++;
    }
  }

  /** Gives what has changed so far to who reads it, while it is near. */
  private void handOn() {
    if (columns != null && columns.size > 0) {
      readers.columns(columns);
      columns.size = 0;
    }
    if (out.isEmpty()) {
      return;
    }
    if (next != null) {
      next.push(port, out);
      out.clear();
    } else if (readers != null) {
      readers.rows(out);
      out.clear();
    }
  }

  private void settleAndEmit(int block, boolean wasLive, boolean isLive, long[] record, int old) {
    changed++;
    long[] page = groups.page(block);
    int key = groups.header(block) + 1;
    int at = groups.state(block);
    if (isLive && (page[at] == 0 || state.anyOrdered())) {
      state.settle(block);
    }
    boolean stays = groups.isLive(block);
    long before = !wasLive ? GONE : shownAt < 0 ? SHOWN : record[old + shownAt];
    int oldRow = -1;
    if (before == FAILS || before == SHOWN && rowsWanted) {
      emit(page, key, record, old, -1);
      oldRow = before == SHOWN ? Math.max(0, out.size() - 1) : -1;
      if (!stays && expired.get(block) && !out.isEmpty()) {
        out.mark(out.size() - 1, Page.EXPIRED);
      }
    }
    long after = stays ? SHOWN : GONE;
    if (stays && (rowsWanted || shownAt >= 0)) {
      after = emit(page, key, page, at, 1);
    }
    if (stays && shownAt >= 0) {
      page[at + shownAt] = after;
    }
    if (after == SHOWN && oldRow >= 0) {
      if (columns != null && readers != null) {
        columns.dropIfSame();
      } else if (mayBeSame) {
        dropIfSame(oldRow);
      }
    }
    if (!rowsWanted) {
      out.clear();
    } else if (out.size() >= HANDED_ON || isFull(columns)) {
      handOn();
    }
    if ((before == SHOWN) != (after == SHOWN)) {
      shown += after == SHOWN ? 1 : -1;
    }
    if (wasLive != stays || (before == SHOWN) != (after == SHOWN)) {
      membership++; // an order knows groups that have no row too
    }
    if (wasLive != stays) {
      orders.group(page, key, block, stays ? 1 : -1);
    }
    if (before == SHOWN) {
      orders.row(page, key, record, old, block, -1);
    }
    if (after == SHOWN) {
      orders.row(page, key, page, at, block, 1);
    }
  }

  /** Where changes are gathered; the owner of a root takes them from here and clears it. */
  Page output() {
    return out;
  }

  private static boolean isFull(ColumnDelta delta) {
    return delta != null && delta.size >= ColumnDelta.ROWS - 1; // a change is two rows
  }

  /** If the row emitted last equals the old one, neither is a change. */
  private void dropIfSame(int oldRow) {
    int last = out.size() - 1;
    int length = out.end(last) - out.start(last);
    if (out.end(oldRow) - out.start(oldRow) == length
        && Bytes.equal(out.bytes(), out.start(oldRow), out.bytes(), out.start(last), length)) {
      out.setWeight(oldRow, 0);
      out.setWeight(last, 0);
    }
  }

  @Override
  public void durable(Consumer<Durable> into) {
    state.durable(into);
  }

  @Override
  public void join(Versions graph) {
    state.join(graph);
    intake.join(graph);
  }

  @Override
  public void close() {
    state.close();
    intake.close();
  }

  @Override
  public void restored(long watermark) {
    state.restored();
    if (ends != null) {
      ends.restored(watermark);
      state.restoredEnds(ends.over());
    }
    shown = 0;
    for (int block = 0; block < groups.blockLimit(); block++) {
      boolean there =
          groups.isLive(block)
              && (shownAt < 0 || groups.page(block)[groups.state(block) + shownAt] == SHOWN);
      shown += there ? 1 : 0;
    }
  }

  /** Groups that changed in the last flush. */
  long changed() {
    return changed;
  }

  // ---- for readers: any thread

  @Override
  public KeyedStore store() {
    return groups;
  }

  @Override
  public GroupKeys keys() {
    return keys;
  }

  @Override
  public RowLayout layout() {
    return groupLayout;
  }

  @Override
  public boolean row(long[] words, RowWriter writer) {
    if (shownAt >= 0 && words[keys.words() + shownAt] != SHOWN) {
      return false;
    }
    row(words, 0, words, keys.words(), writer);
    return true;
  }

  @Override
  public long copies(long[] words) {
    return 1;
  }

  @Override
  public OrderedIndexes indexes() {
    return orders.byKey();
  }

  @Override
  public OrderedIndexes rowIndexes(Finish finish) {
    return finish.isDeclared() ? orders.byRow(finish) : null;
  }

  @Override
  public void forget(Finish finish) {
    orders.forget(finish);
  }

  @Override
  public long rowChanges() {
    return rowChanges;
  }

  @Override
  public long rowBytes() {
    return 0;
  }

  /** How many groups have a row; by the writer. */
  long shown() {
    return shown;
  }

  @Override
  public long membership() {
    return membership;
  }

  @Override
  public long stateBytes() {
    long due = ends == null ? 0 : ends.heapBytes();
    return state.heapBytes() + keys.heapBytes() + orders.heapBytes() + due;
  }

  @Override
  public long stateKeys() {
    return groups.size();
  }
}
