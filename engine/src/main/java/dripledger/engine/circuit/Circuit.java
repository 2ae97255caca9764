package dripledger.engine.circuit;

import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.plan.PlanDigest;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import dripledger.engine.view.RelationVersion;
import java.util.ArrayList;
import java.util.IdentityHashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.Consumer;

/**
 * A plan brought to life: feed it deltas of its inputs, {@link #flush}, and take the delta of its
 * result. Stepped by one thread at a time; {@link #stateBytes} may be read from others and is then
 * as of some recent moment.
 */
public final class Circuit {
  private final List<Operator> operators = new ArrayList<>();
  private final Map<PlanNode, Operator> byNode = new IdentityHashMap<>();
  private final Map<Long, List<Input>> inputs = new LinkedHashMap<>();
  private final Rejects rejects = new Rejects();
  private final Page output;
  private final List<Durable> durable = new ArrayList<>();
  private final List<Operator> restated = new ArrayList<>();
  private final boolean derivable;
  private final String fingerprint;
  private final PlanNode root;
  private int[] keyColumns;
  private boolean keyColumnsKnown;
  private final GroupAggregate stored;
  private Versions own; // a clock that is this circuit's alone; null once it has joined a graph
  private final Versions versions;
  private boolean started;

  private record Input(Operator operator, int port, RowLayout layout) {}

  /** A circuit that is fed once and thrown away. */
  public static Circuit once(PlanNode root) {
    return new Circuit(root, Versions.once());
  }

  /** A circuit with a clock of its own: each {@link #flush} ends a version. */
  public Circuit(PlanNode root) {
    this(root, new Versions());
  }

  private Circuit(PlanNode root, Versions versions) {
    this.root = root;
    this.own = versions;
    this.versions = versions;
    PlanNode.Transform finish = root instanceof PlanNode.Transform t ? t : null;
    PlanNode below = finish == null ? root : finish.input();
    if (below instanceof PlanNode.Aggregate aggregate) {
      // The usual root of a view: its state is the view, and it gives its own page away.
      stored = new GroupAggregate(aggregate, finish, versions, rejects, null, 0);
      output = stored.output();
      build(aggregate.input(), stored, 0);
      register(aggregate, stored);
    } else {
      stored = null;
      output = new Page(new RowLayout(root.schema()));
      build(root, (port, delta) -> output.appendAll(delta), 0);
    }
    operators.forEach(op -> op.durable(durable::add));
    derivable = derive(root);
    fingerprint = PlanDigest.canonical(root);
  }

  /** Notes the topmost operators with state; false if an input reaches the root past them all. */
  private boolean derive(PlanNode node) {
    if (node instanceof PlanNode.Aggregate) {
      restated.add(byNode.get(node));
      return true;
    }
    return !node.inputs().isEmpty() && node.inputs().stream().allMatch(this::derive);
  }

  /**
   * The parts of the operators' state that a checkpoint saves. The same plan always has the same
   * parts in the same order.
   */
  public List<Durable> durable() {
    return durable;
  }

  /** Says whether state saved of another circuit fits this one: if theirs is the same. */
  public String fingerprint() {
    return fingerprint;
  }

  /** Whether all rows of the result can be told from the operators' state: see {@link #restate}. */
  public boolean derivable() {
    return derivable;
  }

  /** Says that the state was restored: what operators emit of no input has been emitted. */
  public void restored() {
    started = true;
    operators.forEach(Operator::restored);
  }

  /**
   * For each group column of the stored result which column it is.
   *
   * @param key the columns the result is looked up by
   * @return null if they are not the group columns as they are
   */
  int[] keyColumns(int[] key) {
    if (!keyColumnsKnown) {
      keyColumns = KeyColumns.of(root, key);
      keyColumnsKnown = true;
    }
    return keyColumns;
  }

  /** The operator whose state is the result, or null if the result must be kept apart. */
  GroupAggregate stored() {
    return stored;
  }

  /** Whether the result can be read from the state. */
  public boolean isStored() {
    return stored != null;
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
   * The result as its clock has just shown it, if it is stored; by the writer.
   *
   * @param key the columns it is ordered by, or null for all
   */
  public RelationVersion version(int[] key, long version) {
    return stored.version(key, keyColumns(key), version);
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

  /** Gives all rows of the result again, in pages that are only valid during the call. */
  public void restate(Consumer<Page> sink) {
    Runnable hand =
        () -> {
          if (!output.isEmpty()) {
            sink.accept(output);
            output.clear();
          }
        };
    restated.forEach(op -> op.restate(hand));
  }

  private void build(PlanNode node, Operator next, int port) {
    node.accept(new Builder(next, port));
  }

  /** Makes the operators of a plan, each of which hands on to the one above. */
  private final class Builder implements PlanNode.Visitor<Void> {
    private final Operator next;
    private final int port;

    Builder(Operator next, int port) {
      this.next = next;
      this.port = port;
    }

    @Override
    public Void source(PlanNode.Source s) {
      inputs
          .computeIfAbsent(s.relationId(), id -> new ArrayList<>())
          .add(new Input(next, port, new RowLayout(s.schema())));
      return null;
    }

    @Override
    public Void values(PlanNode.Values v) {
      register(v, new Constant(v, next, port));
      return null;
    }

    @Override
    public Void transform(PlanNode.Transform t) {
      int place = rejects.place(PlanPrinter.step(t), new RowLayout(t.input().schema()));
      Operator op = new Transform(ProgramCompiler.compile(t.program()), rejects, place, next, port);
      build(t.input(), op, 0);
      register(t, op);
      return null;
    }

    @Override
    public Void aggregate(PlanNode.Aggregate a) {
      Operator op = new GroupAggregate(a, null, versions, rejects, next, port);
      build(a.input(), op, 0);
      register(a, op);
      return null;
    }

    @Override
    public Void unionAll(PlanNode.UnionAll u) {
      u.inputs().forEach(input -> build(input, next, port));
      return null;
    }
  }

  private void register(PlanNode node, Operator op) {
    operators.add(op);
    byNode.put(node, op);
  }

  /** The numbers of the relations this circuit reads. */
  public Set<Long> inputs() {
    return inputs.keySet();
  }

  /** Takes in a delta of a relation. */
  public void feed(long relationId, Page delta) {
    start();
    for (Input input : inputs.getOrDefault(relationId, List.of())) {
      if (delta.layout().columns() == input.layout.columns()) {
        input.operator.push(input.port, delta);
      } else {
        // The relation has got columns since this circuit was made.
        Page narrow = new Page(input.layout, delta.size());
        narrow.appendConverted(delta);
        input.operator.push(input.port, narrow);
      }
    }
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
   * Ends the epoch.
   *
   * @return the delta of the result since the last {@link #clearOutput}; owned by the circuit
   */
  public Page flush() {
    start();
    operators.forEach(Operator::flush);
    if (own != null) {
      own.publish();
    }
    return output;
  }

  /** The delta of the result gathered so far, before the epoch ends; owned by the circuit. */
  public Page pending() {
    return output;
  }

  public void clearOutput() {
    output.clear();
  }

  public Rejects rejects() {
    return rejects;
  }

  /** Heap held as operator state, in bytes. */
  public long stateBytes() {
    return operators.stream().mapToLong(Operator::stateBytes).sum();
  }

  /** Keys held as operator state. */
  public long stateKeys() {
    return operators.stream().mapToLong(Operator::stateKeys).sum();
  }

  /** State held by the operator of one plan node, in bytes; 0 for nodes without state. */
  public long stateBytes(PlanNode node) {
    Operator op = byNode.get(node);
    return op == null ? 0 : op.stateBytes();
  }

  /** Keys held by the operator of one plan node. */
  public long stateKeys(PlanNode node) {
    Operator op = byNode.get(node);
    return op == null ? 0 : op.stateKeys();
  }

  /** VALUES: its rows, once. */
  private record Constant(PlanNode.Values plan, Operator next, int port) implements Operator {
    @Override
    public void start() {
      Page page = new Page(new RowLayout(plan.schema()));
      for (List<Object> row : plan.rows()) {
        BoxedRows.write(page.begin(), row.toArray());
        page.commit(1);
      }
      next.push(port, page);
    }

    @Override
    public void push(int fromPort, Page delta) {
      throw new IllegalStateException("VALUES has no input");
    }
  }
}
