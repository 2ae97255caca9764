package dripledger.bench;

import dripledger.engine.circuit.Circuit;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.ViewStore;
import java.util.List;
import java.util.SplittableRandom;

/**
 * {@code SELECT k, COUNT(*), SUM(v) GROUP BY k} over random bigint keys: the circuit with
 * publishing every epoch, the circuit alone, and the hand-written loop, over the same pre-parsed
 * events.
 */
final class Aggregation {
  private static final int ROUNDS = 3;
  private static final Schema INPUT =
      Schema.of(
          new Column("k", ColumnType.of(Kind.BIGINT).notNull()),
          new Column("v", ColumnType.of(Kind.INTEGER).notNull()));
  private static final Schema OUTPUT =
      Schema.of(
          new Column("k", ColumnType.of(Kind.BIGINT).notNull()),
          new Column("n", ColumnType.of(Kind.BIGINT).notNull()),
          new Column("s", ColumnType.of(Kind.BIGINT).notNull()));

  private final int events;
  private final int keys;
  private final int epochRows;
  private long sink;

  Aggregation(int events, int keys, int epochRows) {
    this.events = events;
    this.keys = keys;
    this.epochRows = epochRows;
  }

  private static PlanNode plan() {
    return new PlanNode.Aggregate(
        new PlanNode.Source(1, "events", INPUT, true, null),
        new int[] {0},
        List.of(
            new AggregateCall(
                AggregateCall.Function.COUNT, new int[0], false, -1, OUTPUT.column(1)),
            new AggregateCall(
                AggregateCall.Function.SUM, new int[] {1}, false, -1, OUTPUT.column(2))),
        OUTPUT);
  }

  /** The events as pages, made once and fed again in every round. */
  private Page[] pages() {
    SplittableRandom random = new SplittableRandom(1);
    RowLayout layout = new RowLayout(INPUT);
    Page[] pages = new Page[(events + epochRows - 1) / epochRows];
    for (int p = 0; p < pages.length; p++) {
      pages[p] = new Page(layout, epochRows);
      for (int i = 0; i < epochRows && p * epochRows + i < events; i++) {
        RowWriter writer = pages[p].begin();
        writer.setLong(0, random.nextInt(keys));
        writer.setLong(1, random.nextInt(30_000));
        pages[p].commit(1);
      }
    }
    return pages;
  }

  void run() {
    Page[] pages = pages();
    System.out.println();
    System.out.println(
        "aggregation: count and sum by key, old and new rows emitted, epochs of " + epochRows);
    double loop = 0;
    double circuit = 0;
    double published = 0;
    long pause = 0;
    double operatorBytes = 0;
    double viewBytes = 0;
    for (int round = 0; round < ROUNDS; round++) {
      loop = Math.max(loop, loop(pages));
      circuit = Math.max(circuit, circuit(pages));
      long before = Heap.used();
      try (Heap.Pauses pauses = new Heap.Pauses()) {
        Circuit c = new Circuit(plan());
        ViewStore store = new ViewStore(OUTPUT, new int[] {0});
        double rate = published(pages, c, store);
        long held = pauses.longestMillis();
        published = Math.max(published, rate);
        pause = held;
        long both = Heap.used() - before;
        RelationVersion kept = store.version();
        sink += kept.count() + c.stateKeys();
        operatorBytes = (double) c.stateBytes() / c.stateKeys();
        viewBytes = (double) both / c.stateKeys() - operatorBytes;
        System.out.printf(
            "  round %d: loop %.2f M/s, circuit %.2f M/s, published %.2f M/s, %d pauses, longest %d ms%n",
            round + 1, loop / 1e6, circuit / 1e6, rate / 1e6, pauses.count(), held);
      }
    }
    System.out.printf("  hand-written loop             %6.2f M events/s%n", loop / 1e6);
    System.out.printf(
        "  circuit, not published        %6.2f M events/s   %.2f of the loop%n",
        circuit / 1e6, circuit / loop);
    System.out.printf(
        "  circuit, published each epoch %6.2f M events/s   %.2f of the loop%n",
        published / 1e6, published / loop);
    System.out.printf("  operator state                %6.1f bytes a key%n", operatorBytes);
    System.out.printf(
        "  published view and scratch    %6.1f bytes a key (heap after a collection)%n", viewBytes);
    System.out.printf("  longest pause, last round     %6d ms%n", pause);
    System.out.println("  (checksum " + sink + ")");
  }

  private double loop(Page[] pages) {
    HandWritten map = new HandWritten();
    long began = System.nanoTime();
    for (Page page : pages) {
      RowLayout layout = page.layout();
      for (int i = 0; i < page.size(); i++) {
        int at = page.start(i);
        map.add(layout.slot(page.bytes(), at, 0), layout.slot(page.bytes(), at, 1));
      }
    }
    double seconds = (System.nanoTime() - began) / 1e9;
    sink += map.checksum();
    return events / seconds;
  }

  private double circuit(Page[] pages) {
    Circuit circuit = new Circuit(plan());
    long began = System.nanoTime();
    for (Page page : pages) {
      circuit.feed(1, page);
      sink += circuit.flush().size();
      circuit.clearOutput();
    }
    return events / ((System.nanoTime() - began) / 1e9);
  }

  private double published(Page[] pages, Circuit circuit, ViewStore store) {
    long began = System.nanoTime();
    for (Page page : pages) {
      circuit.feed(1, page);
      store.apply(circuit.flush());
      circuit.clearOutput();
      sink += store.version().count();
    }
    return events / ((System.nanoTime() - began) / 1e9);
  }
}
