package dripledger.bench;

import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.Epoch;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Frame;
import dripledger.engine.expr.WindowCall;
import dripledger.engine.plan.KeptPlaces;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import dripledger.engine.store.Versions;
import java.util.Arrays;
import java.util.List;
import java.util.SplittableRandom;
import java.util.TreeSet;

/**
 * Window functions kept up to date: the first rows of many groups against a loop written by hand
 * over sorted sets, and what one change costs in one partition of a growing number of rows.
 */
final class Windows {
  private static final ColumnType NUMBER = ColumnType.of(Kind.BIGINT).notNull();
  private static final int FIRST = 10;
  private static final int ROUNDS = 3;

  private final int rows;
  private final int groups;
  private final int epochRows;
  private long sink;

  Windows(int keys, int epochRows) {
    rows = keys;
    groups = Math.max(1, keys / 100);
    this.epochRows = epochRows;
  }

  void run() {
    System.out.printf(
        "%nfirst %d of each of %,d groups, %,d rows, each then replaced%n", FIRST, groups, rows);
    double[] best = new double[2];
    for (int round = 0; round < ROUNDS; round++) {
      best[0] = Math.max(best[0], byHand());
      best[1] = Math.max(best[1], firstRows());
    }
    System.out.printf("  hand-written loop over sorted sets   %6.2f M changes/s%n", best[0] / 1e6);
    System.out.printf(
        "  kept up to date                      %6.2f M changes/s   %.2f of that loop%n",
        best[1] / 1e6, best[1] / best[0]);
    System.out.printf(
        "%none change in a partition of so many rows, microseconds (median of %d)%n", CHANGES);
    System.out.printf("  %-44s", "");
    int[] sizes = {10_000, 100_000, 1_000_000};
    for (int size : sizes) {
      System.out.printf("%12s", String.format("%,d", size));
    }
    System.out.println();
    SortKey byValue = new SortKey(1, false, false);
    print(
        "the row before, changed anywhere",
        sizes,
        byValue,
        call(WindowCall.Function.LAG),
        null,
        false);
    print("sum of 5 rows, changed anywhere", sizes, byValue, sum(frame(4)), null, false);
    print("running sum, a row at the end", sizes, byValue, sum(growing()), null, true);
    print(
        "first 10 by number, changed anywhere",
        sizes,
        byValue,
        call(WindowCall.Function.ROW_NUMBER),
        new KeptPlaces(WindowCall.Function.ROW_NUMBER, 0, 10),
        false);
    print(
        "row numbers, a value that orders nothing",
        sizes,
        byValue,
        call(WindowCall.Function.ROW_NUMBER),
        null,
        null);
    System.out.println(sink == 42 ? "" : " "); // so that nothing is left out
  }

  private static final int CHANGES = 201;

  private static Schema schema(String... names) {
    return new Schema(Arrays.stream(names).map(n -> new Column(n, NUMBER)).toList());
  }

  private static WindowCall call(WindowCall.Function function) {
    Column output = new Column("w", NUMBER.withNullable(function == WindowCall.Function.LAG));
    boolean lag = function == WindowCall.Function.LAG;
    return new WindowCall(
        function, lag ? List.of(0) : List.of(), lag ? 1 : 0, null, Frame.WHOLE, false, output);
  }

  private static WindowCall sum(Frame frame) {
    Column output = new Column("w", ColumnType.decimal(38, 0));
    return new WindowCall(
        WindowCall.Function.AGGREGATE,
        List.of(1),
        0,
        new AggregateCall(AggregateCall.Function.SUM, List.of(1), false, -1, output),
        frame,
        false,
        output);
  }

  private static Frame frame(int before) {
    return new Frame(
        Frame.Unit.ROWS,
        new Frame.Bound(Frame.Place.PRECEDING, before, 0),
        new Frame.Bound(Frame.Place.CURRENT, 0, 0),
        Frame.Exclusion.NONE);
  }

  private static Frame growing() {
    return new Frame(
        Frame.Unit.ROWS,
        new Frame.Bound(Frame.Place.UNBOUNDED_PRECEDING, 0, 0),
        new Frame.Bound(Frame.Place.CURRENT, 0, 0),
        Frame.Exclusion.NONE);
  }

  /** Rows (k, v, extra) of a source, by partitions of some columns in an order. */
  private static Circuit circuit(
      List<Integer> partition, SortKey order, List<WindowCall> calls, KeptPlaces kept) {
    List<Column> output = new java.util.ArrayList<>(schema("k", "v", "extra").columns());
    calls.forEach(c -> output.add(c.output()));
    Circuit circuit =
        new Circuit(
            new PlanNode.Window(
                new PlanNode.Source(1, "rows", schema("k", "v", "extra"), false, List.of(0)),
                partition,
                List.of(order),
                calls,
                kept,
                new Schema(output)));
    return circuit;
  }

  private static Page page(int rows) {
    return new Page(new RowLayout(schema("k", "v", "extra")), rows);
  }

  private static void add(Page page, long k, long v, long extra, long weight) {
    RowWriter writer = page.begin();
    writer.setLong(0, k);
    writer.setLong(1, v);
    writer.setLong(2, extra);
    page.commit(weight);
  }

  // ---- the first rows of many groups

  private long group(int row) {
    return row % groups;
  }

  private static long value(int row, int round) {
    return (row * 0x9E3779B97F4A7C15L ^ round * 0xBF58476D1CE4E5B9L) >>> 20;
  }

  private double firstRows() {
    Versions versions = Versions.ofGraph();
    Circuit circuit =
        circuit(
            List.of(0),
            new SortKey(1, false, false),
            List.of(),
            new KeptPlaces(WindowCall.Function.ROW_NUMBER, 0, FIRST));
    circuit.join(versions);
    double nanos = 0;
    long epoch = 0;
    for (int round = 0; round < 2; round++) {
      for (int from = 0; from < rows; from += epochRows) {
        Page page = page(epochRows * 2);
        for (int row = from; row < Math.min(rows, from + epochRows); row++) {
          if (round > 0) {
            add(page, group(row), value(row, round - 1), row, -1);
          }
          add(page, group(row), value(row, round), row, 1);
        }
        long began = System.nanoTime();
        circuit.feed(1, page);
        sink += circuit.flush(new Epoch(++epoch, 0, 0, 0)).size();
        circuit.clearOutput();
        versions.publish();
        nanos += System.nanoTime() - began;
      }
    }
    return 3.0 * rows / (nanos / 1e9);
  }

  private record Ranked(long value, int row) implements Comparable<Ranked> {
    @Override
    public int compareTo(Ranked other) {
      int c = Long.compare(value, other.value);
      return c != 0 ? c : Integer.compare(row, other.row);
    }
  }

  private double byHand() {
    List<TreeSet<Ranked>> sets = new java.util.ArrayList<>();
    for (int g = 0; g < groups; g++) {
      sets.add(new TreeSet<>());
    }
    Ranked[] out = new Ranked[FIRST];
    long began = System.nanoTime();
    for (int round = 0; round < 2; round++) {
      for (int row = 0; row < rows; row++) {
        TreeSet<Ranked> set = sets.get((int) group(row));
        if (round > 0) {
          Ranked gone = new Ranked(value(row, round - 1), row);
          change(set, gone, false, out);
        }
        change(set, new Ranked(value(row, round), row), true, out);
      }
    }
    return 3.0 * rows / ((System.nanoTime() - began) / 1e9);
  }

  /** Changes a set, and puts out what comes into the first rows and what leaves them. */
  private void change(TreeSet<Ranked> set, Ranked row, boolean comes, Ranked[] out) {
    if (comes) {
      set.add(row);
    } else {
      set.remove(row);
    }
    int at = 0;
    for (Ranked each : set) {
      if (at == FIRST || each.compareTo(row) > 0 && at == 0) {
        break;
      }
      out[at++] = each;
    }
    sink += at;
  }

  // ---- one change in one partition

  /**
   * @param atEnd whether rows come at the end; null for one that changes what orders nothing
   */
  private void print(
      String what, int[] sizes, SortKey order, WindowCall call, KeptPlaces kept, Boolean atEnd) {
    System.out.printf("  %-44s", what);
    for (int size : sizes) {
      System.out.printf("%12.1f", micros(size, order, call, kept, atEnd));
    }
    System.out.println();
  }

  private double micros(int size, SortKey order, WindowCall call, KeptPlaces kept, Boolean atEnd) {
    Versions versions = Versions.ofGraph();
    Circuit circuit = circuit(List.of(), order, List.of(call), kept);
    circuit.join(versions);
    Page all = page(size);
    for (int k = 0; k < size; k++) {
      add(all, k, 2L * k, 0, 1);
    }
    circuit.feed(1, all);
    circuit.flush(new Epoch(1, 0, 0, 0));
    circuit.clearOutput();
    versions.publish();
    SplittableRandom random = new SplittableRandom(1);
    long[] times = new long[CHANGES];
    for (int i = 0; i < CHANGES; i++) {
      Page page = page(2);
      if (atEnd == null) {
        long k = random.nextInt(size);
        add(page, k, 2 * k, 0, -1);
        add(page, k, 2 * k, 1, 1);
      } else if (atEnd) {
        add(page, size + i, 2L * size + i, 0, 1);
      } else {
        add(page, size + i, 2L * random.nextInt(size) + 1, 0, 1);
      }
      long began = System.nanoTime();
      circuit.feed(1, page);
      sink += circuit.flush(new Epoch(2 + i, 0, 0, 0)).size();
      circuit.clearOutput();
      versions.publish();
      times[i] = System.nanoTime() - began;
      if (atEnd == null) { // as it was
        Page back = page(2);
        for (int r = 0; r < 2; r++) {
          RowWriter writer = back.begin();
          writer.setRow(page.bytes(), page.start(r), page.end(r) - page.start(r));
          back.commit(-page.weight(r));
        }
        circuit.feed(1, back);
        circuit.flush(new Epoch(2 + i, 0, 0, 0));
        circuit.clearOutput();
        versions.publish();
      }
    }
    Arrays.sort(times);
    return times[CHANGES / 2] / 1e3;
  }
}
