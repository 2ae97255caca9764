package dripledger.bench;

import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.Epoch;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.store.Versions;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.SplittableRandom;
import java.util.TreeMap;

/**
 * {@code SELECT k, MAX(v) GROUP BY k} over rows that come and go, published every epoch, against a
 * {@code TreeMap} a group in a {@code HashMap}, over the same changes in the same run.
 */
final class Extremes {
  private static final int ROUNDS = 3;
  private static final int EPOCH = 65_536;
  private static final ColumnType NUMBER = ColumnType.of(Kind.BIGINT).notNull();
  private static final Schema INPUT = Schema.of(new Column("k", NUMBER), new Column("v", NUMBER));

  private final int rows;
  private long sink;

  /**
   * @param rows that are there once all have come; then half of them are replaced
   */
  Extremes(int rows) {
    this.rows = rows;
  }

  void run() {
    System.out.println();
    System.out.printf("extremes: max by key, %,d rows come, half are replaced%n", rows);
    for (int groups : new int[] {rows / 10, rows / 1000, 1}) {
      Page[] pages = pages(groups);
      double byHand = 0;
      double ours = 0;
      for (int round = 0; round < ROUNDS; round++) {
        byHand = Math.max(byHand, byHand(pages));
        ours = Math.max(ours, ours(pages));
      }
      System.out.printf(
          "  %-38s %6.2f M changes/s   %.2f of a TreeMap a group (%.2f M/s), %.0f bytes a row%n",
          groups + " groups", ours / 1e6, ours / byHand, byHand / 1e6, bytes(pages));
    }
    System.out.println("  (checksum " + sink + ")");
  }

  private Page[] pages(int groups) {
    SplittableRandom random = new SplittableRandom(3);
    RowLayout layout = new RowLayout(INPUT);
    long[] keys = new long[rows];
    long[] values = new long[rows];
    int changes = 2 * rows;
    Page[] pages = new Page[(changes + EPOCH - 1) / EPOCH];
    for (int p = 0; p < pages.length; p++) {
      pages[p] = new Page(layout, EPOCH);
    }
    for (int i = 0; i < rows; i++) {
      keys[i] = random.nextInt(groups);
      values[i] = random.nextLong() >>> 20;
      add(pages[i / EPOCH], keys[i], values[i], 1);
    }
    for (int i = rows; i + 1 < changes; i += 2) {
      int row = random.nextInt(rows);
      add(pages[i / EPOCH], keys[row], values[row], -1);
      values[row] = random.nextLong() >>> 20;
      add(pages[i / EPOCH], keys[row], values[row], 1);
    }
    return pages;
  }

  private static void add(Page page, long key, long value, long weight) {
    RowWriter writer = page.begin();
    writer.setLong(0, key);
    writer.setLong(1, value);
    page.commit(weight);
  }

  private double byHand(Page[] pages) {
    Map<Long, TreeMap<Long, Integer>> groups = new HashMap<>();
    long began = System.nanoTime();
    for (Page page : pages) {
      RowLayout layout = page.layout();
      for (int i = 0; i < page.size(); i++) {
        int at = page.start(i);
        int weight = (int) page.weight(i);
        groups
            .computeIfAbsent(layout.slot(page.bytes(), at, 0), k -> new TreeMap<>())
            .merge(
                layout.slot(page.bytes(), at, 1),
                weight,
                (a, b) -> a + b == 0 ? null : Integer.valueOf(a + b));
      }
      for (int i = 0; i < page.size(); i += page.size() / 8 + 1) {
        TreeMap<Long, Integer> group = groups.get(layout.slot(page.bytes(), page.start(i), 0));
        sink += group.isEmpty() ? 0 : group.lastKey();
      }
    }
    return 2 * rows / ((System.nanoTime() - began) / 1e9);
  }

  private static Circuit view(Versions versions) {
    ColumnType max = ColumnType.of(Kind.BIGINT);
    Schema output = Schema.of(new Column("k", NUMBER), new Column("m", max));
    Circuit view =
        new Circuit(
            new PlanNode.Aggregate(
                new PlanNode.Source(1, "rows", INPUT, false, null),
                List.of(0),
                List.of(
                    new AggregateCall(
                        AggregateCall.Function.MAX, List.of(1), false, -1, output.column(1))),
                output));
    view.join(versions);
    view.rowsWanted(false);
    return view;
  }

  private double ours(Page[] pages) {
    Versions versions = Versions.ofGraph();
    Circuit view = view(versions);
    long began = System.nanoTime();
    feed(view, versions, pages);
    double seconds = (System.nanoTime() - began) / 1e9;
    sink += view.version(versions.published()).count();
    return 2 * rows / seconds;
  }

  private static void feed(Circuit view, Versions versions, Page[] pages) {
    for (Page page : pages) {
      view.feed(1, page);
      view.flush(Epoch.OUTSIDE);
      view.clearOutput();
      versions.publish();
    }
  }

  private double bytes(Page[] pages) {
    long before = Heap.used();
    Versions versions = Versions.ofGraph();
    Circuit view = view(versions);
    feed(view, versions, pages);
    double bytes = (double) (Heap.used() - before) / rows;
    sink += view.stateKeys();
    return bytes;
  }
}
