package dripledger.engine.query;

import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.Epoch;
import dripledger.engine.circuit.Work;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.intake.StreamHistory;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.sql.Command;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.BooleanSupplier;
import java.util.function.Consumer;
import java.util.function.Function;

/**
 * Answers a query once: builds a circuit, feeds it one snapshot in bounded pieces and throws it
 * away. Runs on the caller's thread, beside the epoch loop and without waiting for it. Safe from
 * any thread.
 */
public final class QueryRunner {
  private final StreamHistory history;
  private final Function<Long, Page> figures;
  private final QueryBounds bounds;
  private final RunningScripts scripts = new RunningScripts();

  /**
   * @param figures answers the rows of a table of figures
   */
  public QueryRunner(StreamHistory history, Function<Long, Page> figures, QueryBounds bounds) {
    this.history = history;
    this.figures = figures;
    this.bounds = bounds;
  }

  /** The scripts whose queries it answers. */
  public RunningScripts scripts() {
    return scripts;
  }

  /** The plan's rows at the snapshot, as pages that are only valid during the call. */
  public void run(PlanNode plan, Snapshot snapshot, Consumer<Page> sink) {
    run(plan, null, snapshot, sink, () -> false);
  }

  private void run(
      PlanNode plan, Along along, Snapshot snapshot, Consumer<Page> sink, BooleanSupplier enough) {
    Work work =
        new Work(
            scripts.millis(bounds.millis()),
            scripts.bytes(bounds.maxBytes()),
            scripts.cancelled(),
            scripts.waited());
    Circuit[] made = new Circuit[1];
    Circuit circuit =
        Circuit.once(
            plan,
            snapshot::relation,
            work,
            () -> {
              hand(made[0].pending(), made[0], sink);
              if (enough.getAsBoolean()) {
                throw Enough.INSTANCE;
              }
            });
    made[0] = circuit;
    Map<Long, RowLayout> layouts = new HashMap<>();
    sourceLayouts(plan, layouts);
    Map<Long, Expr> filters = filters(plan);
    long counted = countedRelation(plan);
    Map<Long, JoinLookUps.LookUp> lookUps = JoinLookUps.of(plan, snapshot);
    for (long input : circuit.inputs()) {
      RowLayout layout = layouts.get(input);
      if (circuit.onlyLooksUpIn(input)) {
        snapshot.readable(input); // or that is the answer
        continue;
      }
      try {
        if (input == counted && snapshot.readable(input) != null) {
          circuit.feed(input, manyRows(layout, snapshot.readable(input).count()));
          continue;
        }
        Consumer<Page> taker =
            page -> {
              work.step();
              scripts.read(page.size());
              circuit.feed(input, page);
              hand(circuit.pending(), circuit, sink);
              if (enough.getAsBoolean()) {
                throw Enough.INSTANCE;
              }
            };
        JoinLookUps.LookUp lookUp = lookUps.get(input);
        if (lookUp == null || !lookedUp(lookUp, snapshot, taker)) {
          feed(input, layout, along, filters.get(input), snapshot, taker);
        }
      } catch (Enough e) {
        return;
      }
    }
    try {
      hand(circuit.flush(Epoch.OUTSIDE), circuit, sink);
    } catch (Enough e) {
      return;
    }
    if (circuit.rejects().count() > 0) {
      throw new EngineException(
          Code.FAILED,
          circuit.rejects().count()
              + (circuit.rejects().count() == 1 ? " row" : " rows")
              + " could not be computed: "
              + circuit.rejects().reasons().stream()
                  .findFirst()
                  .orElse("it is too large to be shown"),
          "leave them out with WHERE, or guard the expression with CASE");
    }
  }

  /**
   * Gives of a relation only the rows that the other side of a join asks for.
   *
   * @return whether it was so few that this was done
   */
  private boolean lookedUp(JoinLookUps.LookUp lookUp, Snapshot snapshot, Consumer<Page> sink) {
    snapshot.readable(lookUp.source().relationId()); // or that is the answer
    Set<List<Object>> keys = new LinkedHashSet<>();
    long[] rows = new long[1];
    Consumer<Page> collect =
        page -> {
          rows[0] += page.size();
          for (int i = 0; i < page.size() && rows[0] <= JoinLookUps.FEW; i++) {
            List<Object> key = new ArrayList<>();
            for (int column : lookUp.columns()) {
              key.add(BoxedRows.readColumn(page.layout(), page.bytes(), page.start(i), column));
            }
            if (!key.contains(null)) {
              keys.add(key);
            }
          }
        };
    run(lookUp.other(), null, snapshot, collect, () -> rows[0] > JoinLookUps.FEW);
    if (rows[0] > JoinLookUps.FEW) {
      return false;
    }
    Pieces pieces = new Pieces(lookUp.way(), sink);
    keys.forEach(key -> pieces.find(key.toArray()));
    pieces.end();
    return true;
  }

  /** The relation of which a plan asks how many rows it has and nothing else; or 0. */
  private static long countedRelation(PlanNode plan) {
    PlanNode below = plan;
    while (below instanceof PlanNode.Transform t) {
      below = t.input();
    }
    boolean counts =
        below instanceof PlanNode.Aggregate a
            && a.groupColumns().isEmpty()
            && a.calls().stream()
                .allMatch(
                    c ->
                        c.function() == AggregateCall.Function.COUNT
                            && c.arguments().isEmpty()
                            && c.filterColumn() < 0);
    below = counts ? below.inputs().get(0) : null;
    // Of anything else there may be more or fewer, and a row that fails is an error and no row.
    while (below instanceof PlanNode.Transform t
        && t.program().filter() == null
        && t.program().onlyPicks()) {
      below = t.input();
    }
    return below instanceof PlanNode.Source s ? s.relationId() : 0;
  }

  /** As many rows as a relation has, of which nobody looks at a column. */
  private static Page manyRows(RowLayout layout, long count) {
    Page page = new Page(layout, 1);
    RowWriter writer = page.begin();
    for (int c = 0; c < layout.columns(); c++) {
      if (layout.schema().type(c).nullable()) {
        writer.setNull(c);
      } else {
        writer.setLong(c, 0);
      }
    }
    page.commit(count);
    return page;
  }

  /** Ends the reading of an input early; carries nothing. */
  private static final class Enough extends RuntimeException {
    private static final long serialVersionUID = 1L;
    static final Enough INSTANCE = new Enough();

    private Enough() {
      super(null, null, false, false);
    }
  }

  private static void hand(Page page, Circuit circuit, Consumer<Page> sink) {
    if (!page.isEmpty()) {
      sink.accept(page);
      circuit.clearOutput();
    }
  }

  /** Gives everything a relation holds at the snapshot. */
  public void feed(long id, RowLayout layout, Snapshot snapshot, Consumer<Page> sink) {
    feed(id, layout, null, null, snapshot, sink);
  }

  private void feed(
      long id, RowLayout layout, Along along, Expr filter, Snapshot snapshot, Consumer<Page> sink) {
    RelationVersion version = snapshot.readable(id);
    if (version != null) {
      Pieces pieces = new Pieces(version, sink);
      read(version, filter, along, pieces, sink);
      pieces.end();
    } else if (id < 0) {
      sink.accept(figures.apply(id));
    } else {
      history.read(id, layout, snapshot, sink);
    }
  }

  private static void read(
      RelationVersion version, Expr filter, Along along, Pieces pieces, Consumer<Page> sink) {
    if (along != null) {
      if (filter == null || !byRanges(along.version(), filter, along.descending(), pieces)) {
        pieces.of(along.version()).range(null, null, along.descending());
      }
      return;
    }
    if (filter != null && byRanges(version, filter, false, pieces)) {
      return;
    }
    for (RelationVersion other : filter == null ? List.<RelationVersion>of() : version.others()) {
      if (byRanges(other, filter, false, pieces)) {
        return;
      }
    }
    version.scan(sink);
  }

  /** Reads what a filter asks of the leading columns of a version's key, if that is of use. */
  private static boolean byRanges(
      RelationVersion version, Expr filter, boolean down, Pieces pieces) {
    List<KeyRanges.Range> ranges = KeyRanges.of(filter, version);
    boolean byKey = ranges != null && ranges.stream().allMatch(r -> r.values() != null);
    if (byKey && (version.finds(version.key().length) || version.worthOrder())) {
      ranges.forEach(r -> pieces.of(version).find(r.values()));
      return true;
    }
    if (ranges == null || byKey || !version.worthOrder()) {
      return false;
    }
    for (int i = 0; i < ranges.size(); i++) {
      KeyRanges.Range range = ranges.get(down ? ranges.size() - 1 - i : i);
      pieces.of(version).range(range.from(), range.to(), down);
    }
    return true;
  }

  /** What the plan's filters ask of relations that it reads once. */
  static Map<Long, Expr> filters(PlanNode plan) {
    Map<Long, Expr> found = new HashMap<>();
    Map<Long, Integer> reads = new HashMap<>();
    filters(plan, found, reads);
    reads.forEach(
        (id, times) -> {
          if (times > 1) {
            found.remove(id);
          }
        });
    return found;
  }

  private static void filters(PlanNode plan, Map<Long, Expr> found, Map<Long, Integer> reads) {
    if (plan instanceof PlanNode.Source s) {
      reads.merge(s.relationId(), 1, Integer::sum);
    }
    if (plan instanceof PlanNode.Transform t
        && t.input() instanceof PlanNode.Source s
        && t.program().filter() != null) {
      found.put(s.relationId(), t.program().filter());
    }
    plan.inputs().forEach(input -> filters(input, found, reads));
  }

  static void sourceLayouts(PlanNode plan, Map<Long, RowLayout> into) {
    if (plan instanceof PlanNode.Source s) {
      into.put(s.relationId(), new RowLayout(s.schema()));
    }
    plan.inputs().forEach(i -> sourceLayouts(i, into));
  }

  /** The whole answer of a SELECT. */
  public Result.Rows answer(Command.QueryPlan query, Snapshot snapshot) {
    return answer(query, snapshot, bounds.maxResultRows());
  }

  /**
   * As above.
   *
   * @param upTo rows; an answer of more is an error, unless the query itself limits it
   */
  public Result.Rows answer(Command.QueryPlan query, Snapshot snapshot, int upTo) {
    int most = scripts.rows(upTo);
    List<Object[]> out = new ArrayList<>();
    send(
        query,
        snapshot,
        upTo,
        row -> {
          out.add(row);
          if (out.size() > most && (query.limit() < 0 || query.limit() > most)) {
            throw tooMany(most);
          }
        });
    return new Result.Rows(query.columns(), out, snapshot.epoch());
  }

  /**
   * Gives the answer of a SELECT row by row, however many they are: only rows that must be sorted
   * are gathered.
   *
   * @param sink takes the rows, which are not in the answer then; if it is null, they are
   */
  public Result.Rows answer(Command.QueryPlan query, Snapshot snapshot, RowSink sink) {
    if (sink == null) {
      return answer(query, snapshot);
    }
    int most = scripts.rows(Integer.MAX_VALUE);
    int[] sent = new int[1];
    sink.columns(query.columns());
    send(
        query,
        snapshot,
        bounds.maxResultRows(),
        row -> {
          if (sent[0]++ == most) {
            throw tooMany(most);
          }
          sink.row(row);
        });
    return new Result.Rows(query.columns(), List.of(), snapshot.epoch());
  }

  /**
   * Gives the rows one by one, in order.
   *
   * @param upTo rows that are sorted, unless the query itself limits them
   */
  private void send(Command.QueryPlan query, Snapshot snapshot, int upTo, Consumer<Object[]> sink) {
    RowLayout layout = new RowLayout(query.plan().schema());
    Along along = Along.of(query, snapshot);
    if (query.order().isEmpty() || along != null) {
      sendInOrder(query, layout, along, snapshot, sink);
      return;
    }
    int most = scripts.rows(upTo);
    long wanted = query.limit() < 0 ? -1 : query.offset() + query.limit();
    SortedRows rows = new SortedRows(layout, query.order(), wanted);
    run(
        query.plan(),
        null,
        snapshot,
        page -> {
          rows.add(page);
          if (rows.size() > most && (wanted < 0 || wanted > most)) {
            throw tooMany(most);
          }
        },
        () -> false);
    for (byte[] row : rows.between(query.offset(), wanted < 0 ? Long.MAX_VALUE : wanted)) {
      sink.accept(picked(layout, row, 0, query.outputs()));
    }
  }

  private void sendInOrder(
      Command.QueryPlan query,
      RowLayout layout,
      Along along,
      Snapshot snapshot,
      Consumer<Object[]> sink) {
    long[] skipped = new long[1];
    long[] left = {query.limit() < 0 ? Long.MAX_VALUE : query.limit()};
    run(
        query.plan(),
        along,
        snapshot,
        page -> {
          for (int i = 0; i < page.size(); i++) {
            for (long n = page.weight(i); n > 0 && left[0] > 0; n--) {
              if (skipped[0] < query.offset()) {
                skipped[0]++;
              } else {
                left[0]--;
                sink.accept(picked(layout, page.bytes(), page.start(i), query.outputs()));
              }
            }
          }
        },
        () -> left[0] == 0);
  }

  private static Object[] picked(RowLayout layout, byte[] bytes, int at, int[] outputs) {
    Object[] row = new Object[outputs.length];
    for (int i = 0; i < row.length; i++) {
      row[i] = BoxedRows.readColumn(layout, bytes, at, outputs[i]);
    }
    return row;
  }

  /** The answer, if whoever asks on this thread may have as many rows. */
  Result.Rows bounded(Result.Rows answer) {
    int most = scripts.rows(Integer.MAX_VALUE);
    if (answer.rows().size() > most) {
      throw tooMany(most);
    }
    return answer;
  }

  private static EngineException tooMany(int most) {
    return new EngineException(
        Code.LIMIT,
        "the answer has more than " + most + " rows",
        "add LIMIT or WHERE, or FOLLOW the query");
  }
}
