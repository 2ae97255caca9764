package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Page;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import dripledger.engine.view.RelationVersion;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import java.util.function.Consumer;
import java.util.function.LongFunction;

/**
 * A node that is computed from others: a step that views share, a view, or a follower.
 *
 * <p>A step keeps state and is read from it. A view whose rows are those of a step, or made of them
 * one by one, keeps nothing: it is read through the step ({@link Finish}); it is fed only if it has
 * to count what it leaves out, or if somebody reads its changes. Any other view keeps its rows. A
 * follower hands its changes to a {@link ChangeListener}.
 */
public final class QueryNode extends LiveNode {
  private static final int MEASURED_EVERY = 16; // epochs, if its result does not change
  private final Circuit circuit;
  private final LookedUp lookedUp;
  private final Finish finish; // how rows are made of those of a step, or null
  private final long baseId; // that step, or 0
  private final KeptRelation kept;
  private final ChangeListener listener;
  private final Set<Long> follows;
  private final Refresher refresher; // null if changes are taken in as they come
  private QueryNode base;
  private Page delta;
  private boolean rowsWanted = true;
  private long currentMicros = Epoch.NEVER;
  private long shown;
  private long rowsBefore; // the refresh that is shown now
  private volatile long stateBytes;
  private volatile long stateKeys;
  private volatile FillBuffer filling;
  private Consumer<Page> filled = page -> {};

  QueryNode(
      long id,
      String name,
      Circuit circuit,
      Finish finish,
      long baseId,
      KeptRelation kept,
      ChangeListener listener,
      Set<Long> follows,
      Refresher refresher) {
    super(id, name);
    this.circuit = circuit;
    lookedUp = new LookedUp(circuit);
    this.finish = finish;
    this.baseId = baseId;
    this.kept = kept;
    this.listener = listener;
    this.follows = follows;
    this.refresher = refresher;
  }

  /** What computes it. */
  public Circuit circuit() {
    return circuit;
  }

  /** What has its changes wait, or null if they are taken in as they come. */
  public Refresher refresher() {
    return refresher;
  }

  /** The rows it keeps, or null if they are read from state. */
  public KeptRelation store() {
    return kept;
  }

  /** Heap of the operators' own state after the last epoch, in bytes. */
  public long stateBytes() {
    return stateBytes;
  }

  /** What a node of its plan keeps inside, or null if it is none of its own; about now. */
  public Circuit.State state(PlanNode node) {
    return circuit.state(node);
  }

  /** Keys its own operators have state for, after the last epoch. */
  public long stateKeys() {
    return stateKeys;
  }

  /** Whether its rows are those of a step, so that there is nothing to compute or to fill. */
  public boolean isPassive() {
    return baseId != NO_NUMBER && finish.passesEveryRow();
  }

  // ---- filling

  /**
   * Makes this a node that is being filled: what its inputs change is kept until the epoch loop
   * says that it is live. Before it is attached.
   *
   * @param sink takes what the circuit puts out meanwhile, besides the node itself
   */
  public void fill(Consumer<Page> sink) {
    filled = sink;
    filling = new FillBuffer();
  }

  /** Whether it is being filled and takes no part in epochs yet. */
  public boolean isFilling() {
    return filling != null;
  }

  /** Whether it looks rows up in an input and reads it no other way. */
  public boolean onlyLooksUpIn(long input) {
    return circuit.onlyLooksUpIn(input);
  }

  /**
   * Says that it is filled next from a version that is pinned, or from what its inputs have changed
   * up to it; by the epoch loop.
   *
   * @param currentMicros the current time, see {@link Epoch#currentMicros}
   */
  public void fillFrom(long version, long currentMicros) {
    this.currentMicros = currentMicros;
    circuit.current(currentMicros);
    filling.mark();
    lookedUp.at(version);
  }

  /** Takes in rows of an input that were there when filling began; by whoever fills it. */
  public void fed(long input, Page page) {
    circuit.fill(input, page);
  }

  /** Ends a piece of filling: what has been fed is part of the result. */
  public void settle() {
    Page out = circuit.flush(Epoch.OUTSIDE);
    keep(out);
    filled.accept(out);
    circuit.clearOutput();
  }

  /**
   * Takes in what had been kept at the last {@link #fillFrom}; by whoever fills the node.
   *
   * @return how many rows it was
   */
  public long catchUp() {
    long rows = lookedUp.take(filling);
    settle();
    return rows;
  }

  /** The current time that it was told last, or {@link Epoch#NEVER}. */
  public long currentMicros() {
    return currentMicros;
  }

  /** When it has to be told the current time next; {@link Long#MAX_VALUE} for not at all. */
  public long dueMicros() {
    return filling == null && refresher == null ? circuit.dueMicros() : Long.MAX_VALUE;
  }

  /** Takes in the rest, and is filled; by the epoch loop. */
  public void drain() {
    fillFrom(ElsewhereSide.NOW, currentMicros);
    catchUp();
    filling = null;
    filled = page -> {};
  }

  // ---- the rest is for the epoch loop

  /** The nodes it reads. */
  public Set<Long> inputs() {
    return circuit.inputs();
  }

  /** Says which node stands behind a number now. */
  public void base(LiveNode node) {
    base = (QueryNode) node;
  }

  /** The relations in which its joins look rows up. */
  public Set<Long> lookedUp() {
    return circuit.lookedUp();
  }

  /**
   * Says where the rows are now that its joins look up.
   *
   * @param wait whether some are computed: then what it is fed waits for its step
   */
  public void tables(LongFunction<KeyedRows> find, boolean wait) {
    lookedUp.tables(find, wait);
    if (filling == null) {
      lookedUp.at(ElsewhereSide.NOW);
    }
  }

  /** Begins an epoch, unless it has begun: what has changed in tables comes first. */
  public void begin(LongFunction<Page> deltas) {
    lookedUp.begin(deltas);
  }

  /** The number of the step it is read through, or 0. */
  public long baseId() {
    return baseId;
  }

  /** Whether somebody reads the rows that change; otherwise they are made only if it must. */
  public void rowsWanted(boolean wanted) {
    rowsWanted = wanted;
    circuit.rowsWanted(wanted);
  }

  /** Whether it has to see what its inputs change. */
  public boolean readsChanges() {
    return !isPassive() || rowsWanted;
  }

  /** Whether its listener outlives the process. */
  public boolean isDelivery() {
    return listener != null && listener.durable() != null;
  }

  /** Whether it needs the rows of its own result that change. */
  public boolean needsOwnRows() {
    return kept != null || listener != null;
  }

  /** Whether somebody is told of what this relation's changes change. */
  public boolean follows(long relationId) {
    return follows.contains(relationId);
  }

  /** Takes in a delta of an input, or keeps it. */
  public void feed(long input, Page page) {
    if (filling != null) {
      filling.add(input, page);
    } else if (refresher != null) {
      refresher.add(input, page);
    } else if (lookedUp.waits()) {
      lookedUp.add(input, page);
    } else {
      circuit.feed(input, page);
    }
  }

  /** Takes in a delta of an input by columns. */
  public void feed(long input, ColumnDelta delta) {
    circuit.feed(input, delta);
  }

  /**
   * Whether it can take an input's delta by columns.
   *
   * @param wanted given the columns that it reads, if so
   */
  public boolean takesColumns(long input, boolean[] wanted) {
    return filling == null
        && refresher == null
        && !lookedUp.waits()
        && circuit.takesColumns(input, wanted);
  }

  /** Says by whom its changes are read, so that it can choose in which form to give them. */
  public void readBy(List<QueryNode> readers) {
    boolean[] wanted = new boolean[circuit.columns()];
    boolean all = wanted.length <= ColumnDelta.MAX_COLUMNS && !readers.isEmpty();
    for (QueryNode reader : readers) {
      all = all && reader.takesColumns(id(), wanted);
    }
    circuit.columnsRead(all ? wanted : null);
  }

  @Override
  public void join(Versions graph) {
    circuit.join(graph);
    if (kept != null) {
      kept.join(graph);
    }
    measure();
  }

  @Override
  public void leave() {
    if (refresher != null) {
      refresher.close();
    }
    circuit.leave();
    if (kept != null) {
      kept.leave();
    } else if (finish != null) {
      finish.orders(List.of());
    }
  }

  /**
   * Ends the epoch, whether it has been fed or not.
   *
   * @param readers given what has changed, piece by piece, unless it is in {@link #delta}
   */
  public void step(Epoch epoch, DeltaReaders readers) {
    lookedUp.end();
    delta = circuit.flush(epoch, readers);
    shown(epoch.number(), epoch, isPassive() ? base.circuit.changed() : circuit.changed());
  }

  /**
   * Ends the epoch of one that waits to be refreshed.
   *
   * @param nowMicros the time of day
   * @param begin whether a refresh may begin
   */
  public void refresh(Epoch epoch, long nowMicros, boolean begin) {
    refresher.arrived(arrival());
    arrival().clear();
    delta = refresher.step(epoch, nowMicros, begin);
    if (delta != null) {
      rowsBefore = kept.count();
      arrival().add(refresher.arrival());
      shown(epoch.number(), refresher.shown(), delta.size());
    }
  }

  private void shown(long number, Epoch epoch, long changed) {
    watermark(epoch.watermarkMicros());
    currentMicros = epoch.currentMicros();
    keep(delta);
    if (changed > 0) {
      countChanges(changed);
      changedIn(number);
    }
    if (changed > 0 || number % MEASURED_EVERY == 0) {
      measure();
    }
  }

  private void keep(Page changes) {
    if (kept != null) {
      kept.apply(changes);
    } else if (baseId != NO_NUMBER && !isPassive()) {
      for (int i = 0; i < changes.size(); i++) {
        shown += changes.weight(i);
      }
    }
  }

  /** Brings the figures of its state up to date. The writer's thread. */
  public void measure() {
    stateBytes = circuit.stateBytes();
    stateKeys = circuit.stateKeys();
  }

  /** Tells its listener, if it has one, what an epoch has changed. The loop's thread. */
  public void tell(long epoch) {
    if (listener != null && delta != null && !delta.isEmpty()) {
      listener.changed(epoch, delta);
    }
    if (refresher != null && delta != null) {
      refresher.tell(epoch, delta, rowsBefore);
    }
  }

  @Override
  public void fail(String reason) {
    boolean already = failure() != null && !stoppedBySource();
    super.fail(reason);
    if (!already && listener != null) {
      listener.ended(reason);
    }
    if (refresher != null) {
      refresher.fail(reason);
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
      circuit.clearOutput();
      delta = null;
      if (refresher != null) {
        refresher.forgetShown();
      }
    }
  }

  @Override
  public KeyedRows byKey() {
    return kept instanceof KeptRows rows ? rows.byKey() : KeyedRows.of(storedRows(), finish);
  }

  private GroupAggregate storedRows() {
    QueryNode step = baseId == NO_NUMBER ? this : base;
    return step == null ? null : step.circuit.stored();
  }

  @Override
  void setOrders(List<int[]> columns) {
    if (kept != null) {
      kept.orders(columns);
    } else {
      finish.orders(columns);
    }
  }

  @Override
  public RelationVersion version(long version) {
    if (kept != null) {
      return kept.version(version);
    }
    GroupAggregate groups = finish == null ? null : storedRows();
    boolean all = baseId == NO_NUMBER || isPassive();
    return groups == null
        ? null
        : new StoredVersion(groups, finish, version, all ? groups.shown() : shown);
  }

  @Override
  public long heldBytes() {
    FillBuffer buffer = filling;
    return stateBytes
        + lookedUp.heapBytes()
        + circuit.outputBytes()
        + (kept == null ? 0 : kept.heapBytes())
        + (refresher == null ? 0 : refresher.heapBytes())
        + (buffer == null ? 0 : buffer.heapBytes());
  }

  @Override
  public String planPrint() {
    String form = refresher == null ? "" : "refreshed";
    return circuit.planPrint() + (kept == null ? "" : kept.form()) + form;
  }

  @Override
  public List<Durable> durable() {
    List<Durable> parts = new ArrayList<>(circuit.durable());
    if (kept != null) {
      parts.add(kept.durable());
    }
    if (refresher != null) {
      parts.add(refresher.durable());
    }
    if (isDelivery()) {
      parts.add(listener.durable());
    }
    return parts;
  }

  @Override
  void saveOwn(DataOutputStream out) throws IOException {
    out.writeLong(shown);
    circuit.rejects().save(out);
    out.writeLong(watermarkMicros());
    out.writeLong(currentMicros);
    circuit.saveLate(out);
    if (refresher != null) {
      refresher.save(out);
    }
    if (listener != null) {
      listener.save(out);
    }
  }

  @Override
  void restoreOwn(DataInputStream in, long nowMillis) throws IOException {
    shown = in.readLong();
    circuit.rejects().restore(in);
    watermark(in.readLong());
    currentMicros = in.readLong();
    circuit.restoreLate(in);
    if (refresher != null) {
      refresher.restore(in, new Epoch(0, watermarkMicros(), 0, currentMicros));
    }
    if (listener != null) {
      listener.restore(in);
    }
    circuit.restored(watermarkMicros(), currentMicros);
    if (kept != null) {
      kept.restored();
    }
    measure();
  }
}
