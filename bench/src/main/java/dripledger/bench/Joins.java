package dripledger.bench;

import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.Epoch;
import dripledger.engine.circuit.KeptRows;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.plan.JoinKind;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.store.Versions;
import java.util.Arrays;
import java.util.List;
import java.util.SplittableRandom;

/**
 * Joins kept up to date, each against a loop written by hand that does the same incrementally over
 * primitive maps: events with a table, and two tables that change, joined and added up.
 */
final class Joins {
  private static final ColumnType NUMBER = ColumnType.of(Kind.BIGINT).notNull();
  private static final int ROUNDS = 3;
  private static final int AREAS = 1000;

  private final int events;
  private final int rows; // of the table that is joined with
  private final int epochRows;
  private long sink;

  Joins(int events, int keys, int epochRows) {
    this.events = events;
    this.rows = keys / 4;
    this.epochRows = epochRows;
  }

  void run() {
    System.out.printf("%njoins: %,d changes, a table of %,d rows%n", events, rows);
    double[] best = new double[4];
    for (int round = 0; round < ROUNDS; round++) {
      best[0] = Math.max(best[0], eventsByHand());
      best[1] = Math.max(best[1], events());
      best[2] = Math.max(best[2], changesByHand());
      best[3] = Math.max(best[3], changes());
    }
    print("events with a table: hand-written loop", best[0], 0);
    print("events with a table: published", best[1], best[0]);
    print("two tables that change: hand-written loop", best[2], 0);
    print("two tables that change: published", best[3], best[2]);
    System.out.println(sink == 42 ? "" : " "); // so that nothing is left out
  }

  private static void print(String what, double rate, double base) {
    System.out.printf(
        "  %-44s %6.2f M changes/s%s%n",
        what, rate / 1e6, base == 0 ? "" : String.format("   %.2f of that loop", rate / base));
  }

  private static Schema schema(String... names) {
    return new Schema(Arrays.stream(names).map(n -> new Column(n, NUMBER)).toList());
  }

  private static PlanNode table() {
    return new PlanNode.Source(2, "table", schema("k", "area"), false, List.of(0), true);
  }

  private static PlanNode.Join join(PlanNode left, int key, Schema output) {
    return new PlanNode.Join(
        left, table(), JoinKind.INNER, List.of(key), List.of(0), List.of(false), null, output);
  }

  /** Events (k, v) with a table (k, area). */
  private static PlanNode.Join eventsJoined() {
    PlanNode events = new PlanNode.Source(1, "events", schema("k", "v"), true, null);
    return join(events, 0, schema("k", "v", "k0", "area"));
  }

  /** Rows (row, k, v), known by their number, with the table, counted and added up by area. */
  private static PlanNode rowsJoinedAndGrouped() {
    PlanNode rows =
        new PlanNode.Source(1, "rows", schema("row", "k", "v"), false, List.of(0), true);
    Schema output = schema("area", "n", "sum");
    return new PlanNode.Aggregate(
        join(rows, 1, schema("row", "k", "v", "k0", "area")),
        List.of(4),
        List.of(
            new AggregateCall(AggregateCall.Function.COUNT, List.of(), false, -1, output.column(1)),
            new AggregateCall(AggregateCall.Function.SUM, List.of(2), false, -1, output.column(2))),
        output);
  }

  /** The table with its rows. */
  private KeptRows filled(Versions versions) {
    KeptRows table = KeptRows.unique(schema("k", "area"), new int[] {0});
    table.join(versions);
    Page page = new Page(new RowLayout(schema("k", "area")), rows);
    for (int k = 0; k < rows; k++) {
      add(page, 1, k, k % AREAS);
    }
    table.apply(page);
    return table;
  }

  private static void add(Page page, long weight, long... values) {
    RowWriter writer = page.begin();
    for (int i = 0; i < values.length; i++) {
      writer.setLong(i, values[i]);
    }
    page.commit(weight);
  }

  // ---- events with a table: each event's row goes on as it comes; the table could change

  private double eventsByHand() {
    SplittableRandom random = new SplittableRandom(1);
    LongMap areas = new LongMap();
    for (int k = 0; k < rows; k++) {
      areas.put(k, k % AREAS);
    }
    // What a change of the table must find again: the events of each key, as a list.
    LongMap first = new LongMap();
    int[] next = new int[events];
    long[] values = new long[events];
    long[] out = new long[4096];
    int at = 0;
    long[] keys = new long[epochRows];
    double nanos = 0;
    for (int e = 0; e < events; ) {
      for (int i = 0; i < epochRows; i++) {
        keys[i] = random.nextInt(rows);
      }
      long began = System.nanoTime();
      for (int i = 0; i < epochRows && e < events; i++, e++) {
        long key = keys[i];
        next[e] = (int) first.get(key);
        first.put(key, e + 1);
        values[e] = i;
        if (at + 3 > out.length) {
          sink += out[at - 1];
          at = 0;
        }
        out[at++] = key;
        out[at++] = i;
        out[at++] = areas.get(key);
      }
      nanos += System.nanoTime() - began;
    }
    sink += next[events - 1] + values[0] + out[0];
    return events / (nanos / 1e9);
  }

  private double events() {
    SplittableRandom random = new SplittableRandom(1);
    Versions versions = Versions.ofGraph();
    Circuit circuit = new Circuit(eventsJoined());
    circuit.join(versions);
    KeptRows table = filled(versions);
    circuit.tables(id -> table.byKey());
    versions.publish();
    Page page = new Page(new RowLayout(schema("k", "v")), epochRows);
    double nanos = 0;
    for (int e = 0; e < events; e += epochRows) {
      page.clear();
      for (int i = 0; i < Math.min(epochRows, events - e); i++) {
        add(page, 1, random.nextInt(rows), i);
      }
      long began = System.nanoTime();
      circuit.feed(1, page);
      sink += circuit.flush(Epoch.OUTSIDE).size();
      circuit.clearOutput();
      versions.publish();
      nanos += System.nanoTime() - began;
    }
    return events / (nanos / 1e9);
  }

  // ---- two tables that change, joined and added up by area

  /** Both sides change: rows of the left get another value, rows of the right another area. */
  private double changesByHand() {
    SplittableRandom random = new SplittableRandom(2);
    int left = 4 * rows;
    LongMap value = new LongMap(); // of left row i, whose key is i % rows
    LongMap area = new LongMap();
    LongMap first = new LongMap(); // left row of a key, plus 1; the others follow
    int[] next = new int[left];
    long[] counts = new long[AREAS];
    long[] sums = new long[AREAS];
    for (int k = 0; k < rows; k++) {
      area.put(k, k % AREAS);
    }
    for (int i = 0; i < left; i++) {
      int k = i % rows;
      value.put(i, i % 100);
      next[i] = (int) first.get(k);
      first.put(k, i + 1);
      counts[(int) area.get(k)]++;
      sums[(int) area.get(k)] += i % 100;
    }
    int[] which = new int[epochRows];
    double nanos = 0;
    long done = 0;
    while (done < events) {
      for (int i = 0; i < epochRows; i++) {
        which[i] = random.nextInt(left);
      }
      long began = System.nanoTime();
      for (int i = 0; i < epochRows; i++) {
        int row = which[i];
        int k = row % rows;
        if (i % 5 != 0) {
          sums[(int) area.get(k)] += i % 100 - value.get(row);
          value.put(row, i % 100);
        } else {
          int from = (int) area.get(k);
          int to = (from + 1) % AREAS;
          for (int l = (int) first.get(k) - 1; l >= 0; l = next[l] - 1) {
            long moved = value.get(l);
            counts[from]--;
            sums[from] -= moved;
            counts[to]++;
            sums[to] += moved;
          }
          area.put(k, to);
        }
      }
      nanos += System.nanoTime() - began;
      done += epochRows;
    }
    sink += sums[0] + counts[1];
    return done / (nanos / 1e9);
  }

  private double changes() {
    SplittableRandom random = new SplittableRandom(2);
    int left = 4 * rows;
    long[] value = new long[left];
    long[] area = new long[rows];
    Versions versions = Versions.ofGraph();
    Circuit circuit = new Circuit(rowsJoinedAndGrouped());
    circuit.join(versions);
    circuit.rowsWanted(false);
    KeptRows table = filled(versions);
    KeptRows kept = KeptRows.unique(schema("row", "k", "v"), new int[] {0});
    kept.join(versions);
    circuit.tables(id -> id == 1 ? kept.byKey() : table.byKey());
    Page page = new Page(new RowLayout(schema("row", "k", "v")), 2 * epochRows);
    for (int k = 0; k < rows; k++) {
      area[k] = k % AREAS;
    }
    for (int i = 0; i < left; i++) {
      value[i] = i % 100;
      add(page, 1, i, i % rows, value[i]);
      if (page.size() >= epochRows || i == left - 1) {
        kept.apply(page);
        circuit.feed(1, page);
        circuit.flush(Epoch.OUTSIDE);
        versions.publish();
        page.clear();
      }
    }
    Page other = new Page(new RowLayout(schema("k", "area")), epochRows);
    double nanos = 0;
    long done = 0;
    while (done < events) {
      page.clear();
      other.clear();
      for (int i = 0; i < epochRows; i++) {
        int row = random.nextInt(left);
        int k = row % rows;
        if (i % 5 != 0) {
          add(page, -1, row, k, value[row]);
          value[row] = i % 100;
          add(page, 1, row, k, value[row]);
        } else {
          add(other, -1, k, area[k]);
          area[k] = (area[k] + 1) % AREAS;
          add(other, 1, k, area[k]);
        }
      }
      long began = System.nanoTime();
      table.apply(other);
      kept.apply(page);
      circuit.feedTables(id -> List.of(other));
      circuit.feed(1, page);
      circuit.flush(Epoch.OUTSIDE);
      versions.publish();
      nanos += System.nanoTime() - began;
      done += epochRows;
    }
    sink += circuit.version(versions.published()).count();
    return done / (nanos / 1e9);
  }
}
