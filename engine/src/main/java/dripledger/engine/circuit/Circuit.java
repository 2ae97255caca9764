package dripledger.engine.circuit;

import dripledger.engine.plan.Paced;
import dripledger.engine.plan.PlanDigest;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.TimeNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import dripledger.engine.view.RelationVersion;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.BiConsumer;
import java.util.function.LongFunction;

/**
 * A plan brought to life: feed it deltas of its inputs, {@link #flush}, and take the delta of its
 * result. Stepped by one thread at a time; {@link #stateBytes} may be read from others and is then
 * as of some recent moment.
 */
public final class Circuit {
  private final List<Operator> operators;
  private final Inputs inputs;
  private final Assembly parts;
  private final Page output;
  private final List<Durable> durable = new ArrayList<>();
  private final PlanNode root;
  private final Work work;
  private final GroupAggregate stored;
  private Versions own; // a clock that is this circuit's alone; null once it has joined a graph
  private final Finish asItIs; // of a stored result
  private boolean started;
  private List<Long> lateKeepers = List.of();

  /**
   * A circuit that is fed once and thrown away.
   *
   * @param relations what a relation is; what a join looks up in it is not fed
   * @param spill called when some rows are {@link #pending}, also while it is being fed
   */
  public static Circuit once(
      PlanNode root, LongFunction<RelationVersion> relations, Work work, Runnable spill) {
    Versions versions = Versions.once();
    Assembly parts = new Assembly(versions, relations, work, true);
    Circuit circuit = new Circuit(root, versions, parts, work, spill);
    circuit.inputs.versions(id -> (StoredVersion) relations.apply(id));
    work.holds(circuit::stateBytes);
    return circuit;
  }

  /** A circuit with a clock of its own: each {@link #flush} ends a version. */
  public Circuit(PlanNode root) {
    this(root, new Versions(), true);
  }

  /** As above, of which joins keep the rows of tables themselves, and look nothing up in them. */
  static Circuit keeping(PlanNode root) {
    return new Circuit(root, new Versions(), false);
  }

  private Circuit(PlanNode root, Versions versions, boolean lookUps) {
    this(
        root,
        versions,
        new Assembly(versions, null, Work.UNBOUNDED, lookUps),
        Work.UNBOUNDED,
        null);
  }

  private Circuit(PlanNode root, Versions versions, Assembly assembly, Work work, Runnable spill) {
    this.root = root;
    parts = assembly;
    operators = parts.operators;
    inputs = parts.inputs;
    this.work = work;
    this.own = versions;
    GroupAggregate groups = null;
    if (root instanceof PlanNode.Aggregate aggregate && !aggregate.publishesEnds()) {
      // Its state is the relation, and it gives its own page away.
      groups = parts.aggregate(aggregate, null, 0);
      output = groups.output();
    } else if (spill != null) {
      output = new Page(new RowLayout(root.schema()));
      parts.build(root, (port, delta) -> spill(delta, spill), 0);
    } else if (root instanceof PlanNode.Transform transform) {
      Transform last = parts.transform(transform, null, 0);
      output = last.output();
      parts.add(last, transform.input());
    } else if (root instanceof PlanNode.Join join) {
      output = parts.join(join, null, 0).output();
    } else if (root instanceof PlanNode.Window window) {
      output = parts.window(window, null, 0).output();
    } else if (root instanceof TimeNode.Settle settle) {
      output = parts.settle(settle, null, 0).output();
    } else if (root instanceof Paced paced) {
      output = parts.paced(paced, null, 0).output();
    } else {
      output = new Page(new RowLayout(root.schema()));
      parts.build(root, (port, delta) -> output.appendAll(delta), 0);
    }
    stored = groups;
    asItIs = groups == null ? null : Finish.none((PlanNode.Aggregate) root);
    operators.forEach(op -> op.durable(durable::add));
  }

  /**
   * The parts of the operators' state that a checkpoint saves. The same plan always has the same
   * parts in the same order.
   */
  public List<Durable> durable() {
    return durable;
  }

  /** Says whether state saved of another circuit fits this one: if theirs is the same. */
  String planPrint() {
    return PlanDigest.canonical(root);
  }

  /**
   * Says that the state was restored: what operators emit of no input has been emitted.
   *
   * @param watermark that of the epoch it was saved in
   * @param currentMicros the current time of that
   */
  void restored(long watermark, long currentMicros) {
    started = true;
    operators.forEach(op -> op.restored(watermark, currentMicros));
  }

  /** Says what the current time is, before anything is fed. */
  void current(long micros) {
    operators.forEach(op -> op.current(micros));
  }

  /** When it has to be told the current time next; {@link Long#MAX_VALUE} for not at all. */
  long dueMicros() {
    return operators.stream().mapToLong(Operator::dueMicros).min().orElse(Long.MAX_VALUE);
  }

  /** How rows are made of the state that is the result, or null. */
  Finish asItIs() {
    return asItIs;
  }

  /** The operator whose state is the result, or null if the result must be kept apart. */
  GroupAggregate stored() {
    return stored;
  }

  /** From now on its state changes with that of others, and their clock shows it. */
  public void join(Versions graph) {
    operators.forEach(op -> op.join(graph));
    own = null;
  }

  /** Leaves the graph it has joined. */
  void leave() {
    if (own == null) {
      operators.forEach(Operator::close);
    }
  }

  /**
   * The rows of a grouped result, in the order of its group columns, as its clock has just shown
   * them; by the writer.
   */
  public RelationVersion version(long version) {
    return new StoredVersion(stored, asItIs, version, stored.shown());
  }

  /** Whether the rows that change are to be made, or only kept. */
  public void rowsWanted(boolean wanted) {
    if (stored != null) {
      stored.rowsWanted(wanted);
    }
  }

  /** Rows, or groups, that the last flush has changed. */
  long changed() {
    return stored != null ? stored.changed() : output.size();
  }

  private void spill(Page delta, Runnable spill) {
    output.appendAll(delta);
    if (output.size() >= ColumnDelta.ROWS) {
      work.step();
      spill.run();
    }
  }

  /** The numbers of the relations this circuit reads. */
  public Set<Long> inputs() {
    return inputs.relations();
  }

  /** The tables of which it reads all that their rows have been. */
  public Set<Long> histories() {
    return parts.histories;
  }

  /** How many columns its result has. */
  int columns() {
    return root.schema().size();
  }

  /** The layout in which it reads a relation. */
  public RowLayout layout(long relationId) {
    return inputs.layout(relationId);
  }

  /**
   * Whether it can take a relation's delta by columns.
   *
   * @param wanted given the columns that it reads, if so
   */
  public boolean takesColumns(long relationId, boolean[] wanted) {
    return inputs.takesColumns(relationId, wanted);
  }

  /** Says which columns are read of the result, if that is all that is read; null if rows are. */
  public void columnsRead(boolean[] wanted) {
    if (stored != null) {
      stored.columnsRead(wanted);
    }
  }

  /** Takes in a delta of a relation by columns; only if {@link #takesColumns}. */
  public void feed(long relationId, ColumnDelta delta) {
    start();
    inputs.feed(relationId, delta);
  }

  /** Takes in rows of a relation that were there before the circuit was made. */
  void fill(long relationId, Page rows) {
    start();
    inputs.fill(relationId, rows);
  }

  /** Takes in a delta of a relation. */
  public void feed(long relationId, Page delta) {
    start();
    inputs.feed(relationId, delta);
  }

  /** The relations in which it looks rows up, which must then be given to it. */
  Set<Long> lookedUp() {
    return inputs.lookedUp();
  }

  /** Whether rows of a relation that has a key are looked up where they are. */
  public static boolean looksUpIn(RelationVersion relation) {
    return relation instanceof StoredVersion stored && stored.byKey() != null;
  }

  /** Whether a relation is only looked up in: then it need not be fed what is in it. */
  public boolean onlyLooksUpIn(long relationId) {
    return inputs.onlyLooksUpIn(relationId);
  }

  /** Says in which tables rows are looked up, as they are. */
  public void tables(LongFunction<KeyedRows> find) {
    tables(find, ElsewhereSide.NOW);
  }

  /**
   * Says where rows of tables are looked up from here on.
   *
   * @param find the rows of a table by its number; null for one that is not known yet
   * @param version one that is pinned, or {@link ElsewhereSide#NOW}
   */
  void tables(LongFunction<KeyedRows> find, long version) {
    inputs.tables(find, version);
  }

  /**
   * Takes in what has changed in the tables that it looks up in, before anything else of an epoch.
   * A join nearer to the root goes first: what another puts out meets the table as it is now.
   *
   * @param changes of a relation, in their order
   */
  public void feedTables(LongFunction<List<Page>> changes) {
    start();
    inputs.feedTables(changes);
  }

  private void start() {
    if (!started) {
      started = true;
      // From the root to the inputs: who is pushed to must have started.
      for (int i = operators.size() - 1; i >= 0; i--) {
        operators.get(i).start();
      }
    }
  }

  /**
   * Ends the epoch, which every operator is told.
   *
   * @return the delta of the result since the last {@link #clearOutput}; owned by the circuit
   */
  public Page flush(Epoch epoch) {
    return flush(epoch, null);
  }

  /**
   * Ends the epoch.
   *
   * @param readers given the delta of a result that is kept as state, piece by piece as it is made;
   *     of another the delta is answered as a whole
   */
  public Page flush(Epoch epoch, DeltaReaders readers) {
    if (stored != null) {
      stored.readers(readers);
    }
    start();
    for (Operator op : operators) {
      op.flush(epoch);
    }
    if (own != null) {
      own.publish();
    }
    return output;
  }

  /** The delta of the result so far, before the epoch ends; owned by the circuit. */
  public Page pending() {
    return output;
  }

  public void clearOutput() {
    output.clear();
  }

  public Rejects rejects() {
    return parts.rejects;
  }

  /** What a node that keeps rows inside keeps of them; null if it is not here. */
  State state(PlanNode node) {
    Operator op = parts.keeping.get(node);
    return op == null ? null : new State(op.stateKeys(), op.stateBytes());
  }

  /** What each node left out that came too late, in the order they were made. */
  public Map<PlanNode, LateRows> late() {
    return parts.late;
  }

  /**
   * Who keeps the rows that come too late: views, by number. By the thread that steps, or before
   * the first step.
   */
  public void keepLate(Set<Long> views) {
    lateKeepers = List.copyOf(views);
    parts.late.values().forEach(rows -> rows.gather(!lateKeepers.isEmpty()));
  }

  /** Hands over what came too late since the last time, to each who keeps it. */
  public void takeLate(BiConsumer<Long, LateRows.Left> sink) {
    if (!lateKeepers.isEmpty()) {
      for (LateRows rows : parts.late.values()) {
        rows.take(left -> lateKeepers.forEach(view -> sink.accept(view, left)));
      }
    }
  }

  void saveLate(DataOutputStream out) throws IOException {
    for (LateRows rows : parts.late.values()) {
      rows.save(out);
    }
  }

  void restoreLate(DataInputStream in) throws IOException {
    for (LateRows rows : parts.late.values()) {
      rows.restore(in);
    }
  }

  /** What an operator keeps. */
  public record State(long keys, long bytes) {}

  /** Heap held for what an epoch puts out, in bytes. The writer's thread. */
  long outputBytes() {
    return output.heapBytes();
  }

  /** Heap held as operator state, in bytes. */
  public long stateBytes() {
    return operators.stream().mapToLong(Operator::stateBytes).sum();
  }

  /** Keys held as operator state. */
  public long stateKeys() {
    return operators.stream().mapToLong(Operator::stateKeys).sum();
  }
}
