package dripledger.engine.circuit;

import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.plan.PlanDigest;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.plan.PlanVisitor;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import dripledger.engine.view.RelationVersion;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.LongFunction;

/**
 * A plan brought to life: feed it deltas of its inputs, {@link #flush}, and take the delta of its
 * result. Stepped by one thread at a time; {@link #stateBytes} may be read from others and is then
 * as of some recent moment.
 */
public final class Circuit {
  private final List<Operator> operators = new ArrayList<>();
  private final Inputs inputs = new Inputs();
  private final Rejects rejects = new Rejects();
  private final Page output;
  private final List<Durable> durable = new ArrayList<>();
  private final Map<PlanNode, Operator> keeping = new HashMap<>();
  private final Map<PlanNode, LateRows> late = new LinkedHashMap<>();
  private final PlanNode root;
  private final Work work;
  private final GroupAggregate stored;
  private Versions own; // a clock that is this circuit's alone; null once it has joined a graph
  private final Versions versions;
  private final Finish asItIs; // of a stored result
  private final LongFunction<RelationVersion> relations; // of a circuit that is fed once
  private boolean started;

  /**
   * A circuit that is fed once and thrown away.
   *
   * @param relations what a relation is; what a join looks up in it is not fed
   * @param spill called when some rows are {@link #pending}, also while it is being fed
   */
  public static Circuit once(
      PlanNode root, LongFunction<RelationVersion> relations, Work work, Runnable spill) {
    Circuit circuit = new Circuit(root, Versions.once(), relations, work, spill);
    circuit.inputs.versions(id -> (StoredVersion) relations.apply(id));
    work.holds(circuit::stateBytes);
    return circuit;
  }

  /** A circuit with a clock of its own: each {@link #flush} ends a version. */
  public Circuit(PlanNode root) {
    this(root, new Versions(), null, Work.UNBOUNDED, null);
  }

  private Circuit(
      PlanNode root,
      Versions versions,
      LongFunction<RelationVersion> relations,
      Work work,
      Runnable spill) {
    this.relations = relations;
    this.root = root;
    this.work = work;
    this.own = versions;
    this.versions = versions;
    GroupAggregate groups = null;
    if (root instanceof PlanNode.Aggregate aggregate && !aggregate.publishesEnds()) {
      // Its state is the relation, and it gives its own page away.
      groups = aggregate(aggregate, null, 0);
      output = groups.output();
    } else if (spill != null) {
      output = new Page(new RowLayout(root.schema()));
      build(root, (port, delta) -> spill(delta, spill), 0);
    } else if (root instanceof PlanNode.Transform transform) {
      Transform last = transform(transform, null, 0);
      output = last.output();
      add(last, transform.input());
    } else if (root instanceof PlanNode.Join join) {
      output = join(join, null, 0).output();
    } else if (root instanceof PlanNode.Window window) {
      output = window(window, null, 0).output();
    } else if (root instanceof PlanNode.Settle settle) {
      output = settle(settle, null, 0).output();
    } else {
      output = new Page(new RowLayout(root.schema()));
      build(root, (port, delta) -> output.appendAll(delta), 0);
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
   */
  void restored(long watermark) {
    started = true;
    operators.forEach(op -> op.restored(watermark));
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

  private Transform transform(PlanNode.Transform t, Operator next, int port) {
    int place = rejects.place(PlanPrinter.step(t), new RowLayout(t.input().schema()));
    return new Transform(ProgramCompiler.compile(t.program()), rejects, place, next, port);
  }

  private void add(Operator op, PlanNode input) {
    build(input, op, 0);
    operators.add(op);
  }

  private GroupAggregate aggregate(PlanNode.Aggregate a, Operator next, int port) {
    LateRows late = a.ending() == null ? null : lateRows(a);
    GroupAggregate op = new GroupAggregate(a, versions, rejects, late, next, port);
    add(op, a.input());
    keeping.put(a, op);
    return op;
  }

  private Window window(PlanNode.Window w, Operator next, int port) {
    Window op = new Window(w, versions, rejects, next, port);
    add(op, w.input());
    keeping.put(w, op);
    return op;
  }

  private Settle settle(PlanNode.Settle s, Operator next, int port) {
    Settle op = new Settle(s, versions, lateRows(s), next, port);
    add(op, s.input());
    keeping.put(s, op);
    return op;
  }

  private LateRows lateRows(PlanNode node) {
    return late.computeIfAbsent(node, n -> new LateRows());
  }

  private Join join(PlanNode.Join j, Operator next, int port) {
    int table = j.table();
    if (table >= 0
        && relations != null
        && !looksUpIn(relations.apply(j.tableSource().relationId()))) {
      table = -1;
    }
    Join op = new Join(j, table, versions, rejects, work, next, port);
    if (table >= 0) {
      table(j, op);
    }
    for (int side = 0; side < 2; side++) {
      if (side != table) {
        build(j.inputs().get(side), op, side);
      }
    }
    operators.add(op);
    keeping.put(j, op);
    return op;
  }

  /** Makes what feeds a join the changes of a table that it looks its rows up in. */
  private void table(PlanNode.Join j, Join join) {
    Operator first = join;
    int port = j.table();
    int at = port;
    PlanNode plan = j.inputs().get(port);
    if (plan instanceof PlanNode.Transform picked) {
      first = transform(picked, join, port);
      at = 0;
      operators.add(first);
    }
    PlanNode.Source source = j.tableSource();
    RowLayout layout = new RowLayout(source.schema());
    inputs.addTable(source.relationId(), first, at, layout, join.tableSide());
  }

  private void build(PlanNode node, Operator next, int port) {
    node.accept(new Builder(next, port));
  }

  /** Makes the operators of a plan, each of which hands on to the one above. */
  private final class Builder implements PlanVisitor<Void> {
    private final Operator next;
    private final int port;

    Builder(Operator next, int port) {
      this.next = next;
      this.port = port;
    }

    @Override
    public Void source(PlanNode.Source s) {
      inputs.add(s.relationId(), next, port, new RowLayout(s.schema()));
      return null;
    }

    @Override
    public Void values(PlanNode.Values v) {
      operators.add(new Constant(v, next, port));
      return null;
    }

    @Override
    public Void transform(PlanNode.Transform t) {
      add(Circuit.this.transform(t, next, port), t.input());
      return null;
    }

    @Override
    public Void aggregate(PlanNode.Aggregate a) {
      Circuit.this.aggregate(a, next, port);
      return null;
    }

    @Override
    public Void join(PlanNode.Join j) {
      Circuit.this.join(j, next, port);
      return null;
    }

    @Override
    public Void repeat(PlanNode.Repeat r) {
      add(new Repeat(r, next, port), r.input());
      return null;
    }

    @Override
    public Void unnest(PlanNode.Unnest u) {
      add(new Unnest(u, next, port), u.input());
      return null;
    }

    @Override
    public Void window(PlanNode.Window w) {
      Circuit.this.window(w, next, port);
      return null;
    }

    @Override
    public Void timeWindows(PlanNode.TimeWindows w) {
      Rejects timeless = relations == null ? rejects : new Rejects(); // no error of a query
      add(new TimeWindows(w, lateRows(w), timeless, next, port), w.input());
      return null;
    }

    @Override
    public Void settle(PlanNode.Settle s) {
      Circuit.this.settle(s, next, port);
      return null;
    }

    @Override
    public Void unionAll(PlanNode.UnionAll u) {
      u.inputs().forEach(input -> build(input, next, port));
      return null;
    }
  }

  /** The numbers of the relations this circuit reads. */
  public Set<Long> inputs() {
    return inputs.relations();
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

  /** Takes in a delta of a relation. */
  public void feed(long relationId, Page delta) {
    start();
    inputs.feed(relationId, delta);
  }

  /** Whether it looks rows up in tables, which must then be given to it. */
  boolean looksUp() {
    return inputs.looksUp();
  }

  /** Whether rows of a relation that has a key are looked up where they are. */
  public static boolean looksUpIn(RelationVersion relation) {
    return relation instanceof StoredVersion stored && stored.table() != null;
  }

  /** Whether a relation is only looked up in: then it need not be fed what is in it. */
  public boolean onlyLooksUpIn(long relationId) {
    return inputs.onlyLooksUpIn(relationId);
  }

  /** Says in which tables rows are looked up, as they are. */
  public void tables(LongFunction<KeptRows> find) {
    tables(find, TableSide.NOW);
  }

  /**
   * Says where rows of tables are looked up from here on.
   *
   * @param find the rows of a table by its number; null for one that is not known yet
   * @param version one that is pinned, or {@link TableSide#NOW}
   */
  void tables(LongFunction<KeptRows> find, long version) {
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
    return rejects;
  }

  /** What a node that keeps rows inside keeps of them; null if it is not here. */
  State state(PlanNode node) {
    Operator op = keeping.get(node);
    return op == null ? null : new State(op.stateKeys(), op.stateBytes());
  }

  /** What each node left out that came too late, in the order they were made. */
  public Map<PlanNode, LateRows> late() {
    return late;
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
