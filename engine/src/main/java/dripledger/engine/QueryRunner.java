package dripledger.engine;

import dripledger.engine.EngineException.Code;
import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.Epoch;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.PreparedQuery;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Comparator;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.function.BooleanSupplier;
import java.util.function.Consumer;
import java.util.function.Function;

/**
 * Answers a query once: builds a circuit, feeds it one snapshot in bounded pieces and throws it
 * away. Runs on the caller's thread, beside the epoch loop and without waiting for it. Safe from
 * any thread.
 */
final class QueryRunner {
  private final StreamHistory history;
  private final Function<Long, Page> figures;
  private final int maxResultRows;

  /**
   * @param figures answers the rows of a table of figures
   */
  QueryRunner(StreamHistory history, Function<Long, Page> figures, int maxResultRows) {
    this.history = history;
    this.figures = figures;
    this.maxResultRows = maxResultRows;
  }

  /** The plan's rows at the snapshot, as pages that are only valid during the call. */
  void run(PlanNode plan, Snapshot snapshot, Consumer<Page> sink) {
    run(plan, null, snapshot, sink, () -> false);
  }

  private void run(
      PlanNode plan,
      Map<Integer, Object> bound,
      Snapshot snapshot,
      Consumer<Page> sink,
      BooleanSupplier enough) {
    Circuit circuit = Circuit.once(plan);
    Map<Long, RowLayout> layouts = new HashMap<>();
    sourceLayouts(plan, layouts);
    Map<Long, Map<Integer, Object>> wanted = equalities(plan);
    for (long input : circuit.inputs()) {
      try {
        feed(
            input,
            layouts.get(input),
            bound != null ? bound : wanted.getOrDefault(input, Map.of()),
            bound != null,
            snapshot,
            page -> {
              circuit.feed(input, page);
              hand(circuit.pending(), circuit, sink);
              if (enough.getAsBoolean()) {
                throw Enough.INSTANCE;
              }
            });
      } catch (Enough e) {
        return;
      }
    }
    hand(circuit.flush(Epoch.OUTSIDE), circuit, sink);
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
  void feed(long id, RowLayout layout, Snapshot snapshot, Consumer<Page> sink) {
    feed(id, layout, Map.of(), false, snapshot, sink);
  }

  /**
   * Gives what a relation holds at the snapshot.
   *
   * @param equalities columns that only rows of one value are asked of
   * @param exactly whether no others may be given
   */
  private void feed(
      long id,
      RowLayout layout,
      Map<Integer, Object> equalities,
      boolean exactly,
      Snapshot snapshot,
      Consumer<Page> sink) {
    RelationVersion version = snapshot.readable(id);
    if (version != null) {
      if (!found(version, equalities, exactly, sink) && !exactly) {
        version.scan(sink);
      }
    } else if (id < 0) {
      sink.accept(figures.apply(id));
    } else {
      history.read(id, layout, snapshot, sink);
    }
  }

  /** Gives the rows by their key, if it is known so far that this is quicker than all of them. */
  private static boolean found(
      RelationVersion version,
      Map<Integer, Object> equalities,
      boolean exactly,
      Consumer<Page> sink) {
    int[] key = version.key();
    int known = 0;
    while (known < key.length && equalities.containsKey(key[known])) {
      known++;
    }
    // What must be found is found, also if it has become slower since it was asked.
    if (known == 0 || !exactly && !version.finds(known)) {
      return false;
    }
    Object[] values = new Object[known];
    Arrays.setAll(values, i -> equalities.get(key[i]));
    Page page = new Page(version.layout(), 1);
    try {
      version.find(
          values,
          (bytes, at) -> {
            page.append(bytes, at, version.layout().length(bytes, at), 1);
            if (page.size() >= RelationVersion.PIECE_ROWS) {
              sink.accept(page);
              page.clear();
            }
            return true;
          });
    } catch (IllegalArgumentException e) {
      return false; // a value that does not fit its column, and so is in no row
    }
    if (!page.isEmpty()) {
      sink.accept(page);
    }
    return true;
  }

  /** What the plan's filters ask of relations that it reads once. */
  private static Map<Long, Map<Integer, Object>> equalities(PlanNode plan) {
    Map<Long, Map<Integer, Object>> found = new HashMap<>();
    Map<Long, Integer> reads = new HashMap<>();
    equalities(plan, found, reads);
    reads.forEach(
        (id, times) -> {
          if (times > 1) {
            found.remove(id);
          }
        });
    return found;
  }

  private static void equalities(
      PlanNode plan, Map<Long, Map<Integer, Object>> found, Map<Long, Integer> reads) {
    if (plan instanceof PlanNode.Source s) {
      reads.merge(s.relationId(), 1, Integer::sum);
    }
    if (plan instanceof PlanNode.Transform t && t.input() instanceof PlanNode.Source s) {
      found.put(s.relationId(), t.program().equalities());
    }
    plan.inputs().forEach(input -> equalities(input, found, reads));
  }

  static void sourceLayouts(PlanNode plan, Map<Long, RowLayout> into) {
    if (plan instanceof PlanNode.Source s) {
      into.put(s.relationId(), new RowLayout(s.schema()));
    }
    plan.inputs().forEach(i -> sourceLayouts(i, into));
  }

  /**
   * The whole answer of a query that was planned before.
   *
   * @param values of the columns that its parameters are compared with
   * @return null if its relation cannot find rows by just these columns
   */
  Result.Rows answerBound(PreparedQuery query, Map<Integer, Object> values, Snapshot snapshot) {
    if (!values.isEmpty()) {
      RelationVersion version = snapshot.readable(query.relationId());
      int[] key = version == null ? new int[0] : version.key();
      for (int i = 0; i < values.size(); i++) {
        if (i >= key.length || !values.containsKey(key[i])) {
          return null;
        }
      }
      if (!version.finds(values.size())) {
        return null;
      }
    }
    return answer(query.plan(), values.isEmpty() ? null : values, snapshot);
  }

  /** The whole answer of a SELECT. */
  Result.Rows answer(Command.QueryPlan query, Snapshot snapshot) {
    return answer(query, null, snapshot);
  }

  /**
   * @param bound what the rows of the one relation read are found by, and the plan does not ask
   *     again; or null
   */
  private Result.Rows answer(
      Command.QueryPlan query, Map<Integer, Object> bound, Snapshot snapshot) {
    RowLayout layout = new RowLayout(query.plan().schema());
    Comparator<Object[]> order = comparator(query.order());
    long wanted = query.limit() < 0 ? -1 : query.offset() + query.limit();
    List<Object[]> rows = new ArrayList<>();
    run(
        query.plan(),
        bound,
        snapshot,
        page -> {
          for (int i = 0; i < page.size(); i++) {
            for (long n = page.weight(i); n > 0; n--) {
              rows.add(BoxedRows.read(layout, page.bytes(), page.start(i)));
            }
          }
          if (order != null && wanted >= 0 && rows.size() > 4 * wanted + 10_000) {
            rows.sort(order);
            rows.subList((int) wanted, rows.size()).clear();
          }
          if (rows.size() > maxResultRows && (wanted < 0 || wanted > maxResultRows)) {
            throw new EngineException(
                Code.LIMIT,
                "the answer has more than " + maxResultRows + " rows",
                "add LIMIT or WHERE, or FOLLOW the query");
          }
        },
        () -> order == null && wanted >= 0 && rows.size() >= wanted);
    if (order != null) {
      rows.sort(order);
    }
    int from = (int) Math.min(rows.size(), query.offset());
    int to = wanted < 0 ? rows.size() : (int) Math.min(rows.size(), wanted);
    List<Object[]> out = new ArrayList<>(Math.max(0, to - from));
    for (Object[] row : rows.subList(from, Math.max(from, to))) {
      Object[] picked = new Object[query.outputs().length];
      Arrays.setAll(picked, i -> row[query.outputs()[i]]);
      out.add(picked);
    }
    return new Result.Rows(query.columns(), out, snapshot.epoch());
  }

  private static Comparator<Object[]> comparator(List<Command.SortKey> keys) {
    if (keys.isEmpty()) {
      return null;
    }
    return (a, b) -> {
      for (Command.SortKey key : keys) {
        Object x = a[key.column()];
        Object y = b[key.column()];
        int c;
        if (x == null || y == null) {
          c = x == y ? 0 : (x == null) == key.nullsFirst() ? -1 : 1;
        } else {
          c = key.descending() ? compare(y, x) : compare(x, y);
        }
        if (c != 0) {
          return c;
        }
      }
      return 0;
    };
  }

  @SuppressWarnings({"unchecked", "rawtypes"})
  private static int compare(Object x, Object y) {
    if (x instanceof String a && y instanceof String b) {
      return dripledger.engine.expr.Builtins.compare(a, b);
    }
    if (x instanceof byte[] a && y instanceof byte[] b) {
      return Arrays.compareUnsigned(a, b);
    }
    if (x instanceof Comparable a) {
      return a.compareTo(y);
    }
    throw new EngineException(
        Code.NOT_SUPPORTED,
        "not supported yet: ORDER BY a nested value",
        "order by one of its fields");
  }
}
