package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import dripledger.engine.time.Arrival;
import dripledger.engine.time.PartitionMarks;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.RelationVersion;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.util.Arrays;
import java.util.List;

/** A stream or table: where changes come in from outside. */
public final class InputNode extends LiveNode {
  private final KeptRows store;
  private final Page input;
  private final int eventTime;
  private final Watermark watermark;
  private final KeyedInput keyed;
  private Page delta;
  private volatile long late;
  private boolean versioned;
  private boolean applied; // whether the delta is in the store already
  private long since = VersionRows.ALWAYS; // when a table changed last, if versions are read

  private InputNode(
      long id,
      String name,
      RowLayout layout,
      KeptRows store,
      int eventTime,
      Watermark watermark,
      KeyedInput keyed) {
    super(id, name);
    this.store = store;
    this.input = new Page(layout);
    this.eventTime = eventTime;
    this.watermark = watermark;
    this.keyed = keyed;
    watermark(eventTime >= 0 ? Watermark.NONE : Watermark.TIMELESS);
  }

  /**
   * A stream: keeps nothing but its figures.
   *
   * @param eventTime a column or −1
   * @param idleMillis how long a silent partition holds the watermark back
   */
  public static InputNode stream(
      long id, String name, RowLayout layout, int eventTime, long latenessMicros, long idleMillis) {
    Watermark watermark = new Watermark(latenessMicros, idleMillis);
    return new InputNode(id, name, layout, null, eventTime, watermark, null);
  }

  /** A table changed by statements: it is fed its delta. */
  public static InputNode table(long id, String name, RowLayout layout, KeptRows store) {
    return new InputNode(id, name, layout, store, -1, null, null);
  }

  /**
   * A table that follows a source: it is fed operations on its keys.
   *
   * @param key the columns of its key
   */
  public static InputNode keyedTable(
      long id, String name, RowLayout layout, int[] key, KeptRows store) {
    KeyedInput keyed = new KeyedInput(layout.schema(), key, store);
    return new InputNode(id, name, layout, store, -1, null, keyed);
  }

  /** The rows of a table, or null. */
  public KeptRows store() {
    return store;
  }

  @Override
  public KeyedRows byKey() {
    return store == null ? null : store.byKey();
  }

  /** Events from behind the watermark. */
  public long late() {
    return late;
  }

  /** Where the partitions of a stream stand; empty for others. Safe from any thread. */
  public List<Watermark.PartitionMark> partitions() {
    if (watermark == null) {
      return List.of();
    }
    synchronized (watermark) {
      return watermark.partitions(Watermark.clock());
    }
  }

  /** Where partitions of a stream came back that had been set aside. Safe from any thread. */
  public List<PartitionMarks.Return> returns() {
    synchronized (watermark) {
      return watermark.returns();
    }
  }

  /**
   * Takes in changes, or operations on keys; the page is handed over. The loop's thread.
   *
   * @param arrivedMicros when they came to us, in microseconds since 1970, or {@link Arrival#NONE}
   */
  public void take(Page page, int partition, long nowMillis, long arrivedMicros) {
    countChanges(page.size());
    arrival().add(arrivedMicros, Arrival.NONE);
    boolean sameColumns = page.layout().columns() == input.layout().columns();
    if (versioned && store != null) {
      delta = input;
      takeVersions(page, keyed != null && !sameColumns, arrivedMicros);
      return;
    }
    if (keyed != null && !sameColumns) {
      delta = input;
      keyed.take(page);
      return;
    }
    if (eventTime >= 0) {
      synchronized (watermark) {
        watermark.observe(partition, page, eventTime, nowMillis);
      }
      late = watermark.late();
    }
    if (delta == null && keyed == null && sameColumns) {
      delta = page; // handed over, and read as it is if it stays the only one of the epoch
    } else {
      if (delta != input && delta != null) {
        input.appendAll(delta);
      }
      delta = input;
      input.appendAll(page);
    }
  }

  /** Takes in changes as they were made, so that all that a row has been is in the delta. */
  private void takeVersions(Page page, boolean operations, long arrivedMicros) {
    applied = true;
    if (!operations) {
      Page own = new Page(input.layout());
      own.appendAll(page);
      takeVersion(own, arrivedMicros);
      return;
    }
    for (int from = 0; from < page.size(); ) {
      int to = from + 1;
      while (to < page.size() && page.mark(to) == page.mark(from)) {
        to++;
      }
      Page own = new Page(input.layout());
      keyed.take(page, from, to);
      keyed.flush(own);
      takeVersion(own, page.mark(from) == Page.UNMARKED ? arrivedMicros : page.mark(from));
      from = to;
    }
  }

  private void takeVersion(Page changes, long madeMicros) {
    since = Math.max(madeMicros, since + 1); // the first of all unmarked is as good as always
    Arrays.fill(changes.markAll(), 0, changes.size(), since);
    store.apply(changes);
    input.appendAll(changes);
  }

  /**
   * Whether somebody reads what the rows of a table have been: then each has, in the delta, as its
   * mark the time it was made at the source, or came to us. That of a table never goes back.
   */
  public void versioned(boolean value) {
    versioned = value;
  }

  /** Ends the taking of one epoch, before anything reads the delta. */
  public void taken(long epoch) {
    if (delta == null) {
      return;
    }
    if (eventTime >= 0) {
      arrival().add(arrival().oldestMicros(), watermark.highest());
    }
    if (!applied && keyed != null) {
      keyed.flush(input);
    }
    if (!applied && store != null) {
      store.apply(delta);
    }
    applied = false;
    if (!delta.isEmpty()) {
      changedIn(epoch);
    }
  }

  /**
   * Lets go of partitions that have been silent too long. The loop's thread.
   *
   * @return whether the watermark is another now
   */
  public boolean advanceWatermark(long nowMillis) {
    if (eventTime < 0) {
      return false;
    }
    synchronized (watermark) {
      watermark.advance(nowMillis);
    }
    boolean moved = watermarkMicros() != watermark.micros();
    watermark(watermark.micros());
    return moved;
  }

  @Override
  public void join(Versions graph) {
    if (store != null) {
      store.join(graph);
    }
  }

  @Override
  public void leave() {
    if (store != null) {
      store.leave();
    }
  }

  @Override
  public Page delta() {
    return delta;
  }

  @Override
  public void endEpoch() {
    arrival().clear();
    if (delta != null) {
      input.clear();
      delta = null;
    }
  }

  @Override
  void setOrders(List<int[]> columns) {
    if (store != null) {
      store.orders(columns);
    }
  }

  @Override
  public RelationVersion version(long version) {
    return store == null ? null : store.version(version);
  }

  @Override
  public long heldBytes() {
    return input.heapBytes() + (store == null ? 0 : store.heapBytes());
  }

  @Override
  public String planPrint() {
    return store == null ? "" : store.layout().schema().columns() + store.form();
  }

  @Override
  public List<Durable> durable() {
    return store == null ? List.of() : List.of(store.durable());
  }

  @Override
  void saveOwn(DataOutputStream out) throws IOException {
    out.writeLong(since);
    if (watermark != null) {
      watermark.save(out);
    }
  }

  @Override
  void restoreOwn(DataInputStream in, long nowMillis) throws IOException {
    since = in.readLong();
    if (store != null) {
      store.restored();
    }
    if (watermark != null) {
      watermark.restore(in, nowMillis);
      watermark(eventTime >= 0 ? watermark.micros() : Watermark.TIMELESS);
      late = watermark.late();
    }
  }

  /** Takes over the figures of the node it replaces, whose relation has got another column. */
  public void takeOver(LiveNode older, long nowMillis) {
    restoreFigures(older.figures(), nowMillis);
  }
}
