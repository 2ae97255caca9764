package dripledger.bench;

import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.ColumnDelta;
import dripledger.engine.circuit.DeltaReaders;
import dripledger.engine.circuit.Epoch;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.expr.Program;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.store.Versions;
import dripledger.engine.view.RelationVersion;
import java.nio.charset.StandardCharsets;
import java.util.List;
import java.util.SplittableRandom;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.atomic.AtomicReference;

/**
 * {@code SELECT k, COUNT(*), SUM(v) GROUP BY k} over random keys as a view keeps it, published
 * every epoch, against a loop written by hand for this one query, over the same events in the same
 * run.
 */
final class Aggregation {
  private static final int ROUNDS = 5;
  private static final int SMALL_EPOCH = 1000;
  private static final long LEAST = 3000;
  private static final ColumnType NUMBER = ColumnType.of(Kind.BIGINT).notNull();
  private static final ColumnType TEXT = ColumnType.varchar(-1).notNull();

  private final int events;
  private final int keys;
  private final int epochRows;
  private long mostHeldBack;
  private long sink;

  Aggregation(int events, int keys, int epochRows) {
    this.events = events;
    this.keys = keys;
    this.epochRows = epochRows;
  }

  private static Schema input(ColumnType key) {
    return Schema.of(new Column("k", key), new Column("v", ColumnType.of(Kind.INTEGER).notNull()));
  }

  private static Schema output(ColumnType key) {
    return Schema.of(new Column("k", key), new Column("n", NUMBER), new Column("s", NUMBER));
  }

  private static PlanNode plan(ColumnType key) {
    Schema output = output(key);
    return new PlanNode.Aggregate(
        new PlanNode.Source(1, "events", input(key), true, null),
        List.of(0),
        List.of(
            new AggregateCall(AggregateCall.Function.COUNT, List.of(), false, -1, output.column(1)),
            new AggregateCall(AggregateCall.Function.SUM, List.of(1), false, -1, output.column(2))),
        output);
  }

  /** The same of twice the value, of events whose value is at least a tenth of the largest. */
  private static PlanNode transformed() {
    Schema input = input(NUMBER);
    ColumnType integer = input.type(1);
    Expr value = new Expr.Column(1, integer);
    Expr filter =
        new Expr.Call(
            Operation.GREATER_OR_EQUAL,
            List.of(value, new Expr.Constant(LEAST, integer)),
            List.of(),
            ColumnType.of(Kind.BOOLEAN).notNull());
    Expr twice =
        new Expr.Call(
            Operation.TIMES, List.of(value, new Expr.Constant(2L, integer)), List.of(), integer);
    Program program = new Program(input, filter, List.of(new Expr.Column(0, NUMBER), twice), input);
    PlanNode.Aggregate plan = (PlanNode.Aggregate) plan(NUMBER);
    return new PlanNode.Aggregate(
        new PlanNode.Transform(plan.input(), program),
        plan.groupColumns(),
        plan.calls(),
        plan.schema());
  }

  /** How many keys have how many events: reads every change of the view. */
  private static PlanNode downstream() {
    Schema output = Schema.of(new Column("n", NUMBER), new Column("keys", NUMBER));
    return new PlanNode.Aggregate(
        new PlanNode.Source(2, "view", output(NUMBER), false, List.of(0)),
        List.of(1),
        List.of(
            new AggregateCall(
                AggregateCall.Function.COUNT, List.of(), false, -1, output.column(1))),
        output);
  }

  /** The text of a key: 12 bytes. */
  private static byte[] text(int key) {
    return String.format("parcel%06d", key).getBytes(StandardCharsets.US_ASCII);
  }

  /** The events as pages, made once and fed again in every round. */
  private Page[] pages(ColumnType key, int rows) {
    SplittableRandom random = new SplittableRandom(1);
    byte[][] texts = new byte[key.isVariable() ? keys : 0][];
    for (int i = 0; i < texts.length; i++) {
      texts[i] = text(i);
    }
    RowLayout layout = new RowLayout(input(key));
    Page[] pages = new Page[(events + rows - 1) / rows];
    for (int p = 0; p < pages.length; p++) {
      pages[p] = new Page(layout, rows);
      for (int i = 0; i < rows && p * rows + i < events; i++) {
        RowWriter writer = pages[p].begin();
        int k = random.nextInt(keys);
        if (key.isVariable()) {
          writer.setBytes(0, texts[k], 0, texts[k].length);
        } else {
          writer.setLong(0, k);
        }
        writer.setLong(1, random.nextInt(30_000));
        pages[p].commit(1);
      }
    }
    return pages;
  }

  void run() {
    System.out.println();
    System.out.println(
        "aggregation: count and sum by key, epochs of " + epochRows + ", best of " + ROUNDS);
    numbers();
    transforms();
    texts();
    System.out.println("  (checksum " + sink + ")");
  }

  private void numbers() {
    Page[] pages = pages(NUMBER, epochRows);
    double loop = 0;
    double published = 0;
    double read = 0;
    long pause = Long.MAX_VALUE;
    for (int round = 0; round < ROUNDS; round++) {
      double byHand = loop(pages);
      loop = Math.max(loop, byHand);
      double ours;
      try (Heap.Pauses pauses = new Heap.Pauses()) {
        ours = published(pages, null);
        pause = Math.min(pause, pauses.longestMillis());
      }
      published = Math.max(published, ours);
      double withReader = published(pages, downstream());
      read = Math.max(read, withReader);
      System.out.printf(
          "  round %d: loop %.2f M/s, published %.2f M/s, read downstream %.2f M/s%n",
          round + 1, byHand / 1e6, ours / 1e6, withReader / 1e6);
    }
    print("hand-written loop", loop, 0, "");
    print("published every epoch", published, loop, "the loop");
    print("with a view that reads every change", read, loop, "the loop");
    heapAndReads(pages);
    System.out.printf("  %-38s %6d ms%n", "longest pause, quietest round", pause);
    Page[] small = pages(NUMBER, SMALL_EPOCH);
    double many = 0;
    for (int round = 0; round < 3; round++) {
      many = Math.max(many, published(small, null));
    }
    System.out.printf(
        "  %-38s %6.2f M events/s   %.2fx the cost a row%n",
        "epochs of " + SMALL_EPOCH, many / 1e6, published / many);
  }

  private void transforms() {
    Page[] pages = pages(NUMBER, epochRows);
    double loop = 0;
    double published = 0;
    for (int round = 0; round < ROUNDS; round++) {
      loop = Math.max(loop, transformedLoop(pages));
      published = Math.max(published, published(transformed(), pages, null));
    }
    print("filter, projection: hand-written loop", loop, 0, "");
    print("filter, projection: published", published, loop, "that loop");
  }

  private void texts() {
    Page[] pages = pages(TEXT, epochRows);
    double loop = 0;
    double published = 0;
    for (int round = 0; round < ROUNDS; round++) {
      loop = Math.max(loop, textLoop(pages));
      published = Math.max(published, published(pages, null));
    }
    print("text keys: hand-written loop", loop, 0, "");
    print("text keys: published every epoch", published, loop, "that loop");
  }

  private static void print(String what, double rate, double base, String baseName) {
    System.out.printf(
        "  %-38s %6.2f M events/s%s%n",
        what, rate / 1e6, base == 0 ? "" : String.format("   %.2f of %s", rate / base, baseName));
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

  private double transformedLoop(Page[] pages) {
    HandWritten map = new HandWritten();
    long began = System.nanoTime();
    for (Page page : pages) {
      RowLayout layout = page.layout();
      for (int i = 0; i < page.size(); i++) {
        int at = page.start(i);
        long value = layout.slot(page.bytes(), at, 1);
        if (value >= LEAST) {
          map.add(layout.slot(page.bytes(), at, 0), Math.toIntExact(2 * value));
        }
      }
    }
    double seconds = (System.nanoTime() - began) / 1e9;
    sink += map.checksum();
    return events / seconds;
  }

  private double textLoop(Page[] pages) {
    HandWrittenText map = new HandWrittenText();
    long began = System.nanoTime();
    for (Page page : pages) {
      RowLayout layout = page.layout();
      for (int i = 0; i < page.size(); i++) {
        int at = page.start(i);
        byte[] bytes = page.bytes();
        map.add(
            bytes,
            layout.variableOffset(bytes, at, 0),
            layout.variableLength(bytes, at, 0),
            layout.slot(bytes, at, 1));
      }
    }
    double seconds = (System.nanoTime() - began) / 1e9;
    sink += map.checksum();
    return events / seconds;
  }

  /** Feeds every page as an epoch and publishes it; with a reader, hands it the changed rows. */
  private double published(Page[] pages, PlanNode reader) {
    return published(plan(pages[0].layout().schema().type(0)), pages, reader);
  }

  private double published(PlanNode plan, Page[] pages, PlanNode reader) {
    Versions versions = Versions.ofGraph();
    Circuit view = new Circuit(plan);
    view.join(versions);
    view.rowsWanted(reader != null);
    Circuit downstream = reader == null ? null : new Circuit(reader);
    if (downstream != null) {
      downstream.join(versions);
      downstream.rowsWanted(false);
      boolean[] wanted = new boolean[output(NUMBER).size()];
      view.columnsRead(downstream.takesColumns(2, wanted) ? wanted : null);
    }
    DeltaReaders readers = downstream == null ? null : new Handing(downstream);
    long began = System.nanoTime();
    for (Page page : pages) {
      view.feed(1, page);
      view.flush(Epoch.OUTSIDE, readers);
      if (downstream != null) {
        downstream.flush(Epoch.OUTSIDE);
      }
      view.clearOutput();
      versions.publish();
    }
    double seconds = (System.nanoTime() - began) / 1e9;
    RelationVersion version = view.version(versions.published());
    sink += version.count();
    return events / seconds;
  }

  /** Feeds one circuit what another changes, as the graph does. */
  private record Handing(Circuit downstream) implements DeltaReaders {
    @Override
    public void rows(Page piece) {
      downstream.feed(2, piece);
    }

    @Override
    public void columns(ColumnDelta piece) {
      downstream.feed(2, piece);
    }
  }

  private void heapAndReads(Page[] pages) {
    long before = Heap.used();
    Versions versions = Versions.ofGraph();
    Circuit view = new Circuit(plan(NUMBER));
    view.join(versions);
    view.rowsWanted(false);
    for (Page page : pages) {
      view.feed(1, page);
      view.flush(Epoch.OUTSIDE);
      view.clearOutput();
      versions.publish();
    }
    double bytes = (double) (Heap.used() - before) / view.stateKeys();
    System.out.printf(
        "  %-38s %6.1f bytes a key (%.1f as accounted)%n",
        "heap: state, rows and look-up together",
        bytes,
        (double) view.stateBytes() / view.stateKeys());
    double byHand = lookupsByHand(pages);
    double alone = lookups(versions, view, null);
    double busy = lookups(versions, view, pages);
    System.out.printf(
        "  %-38s %6.2f M/s alone, %.2f M/s beside a writer, %.2f M/s in the map of the loop%n",
        "look-ups by key, one thread", alone / 1e6, busy / 1e6, byHand / 1e6);
    long began = System.nanoTime();
    try (Versions.Pin pin = versions.pin()) {
      view.version(pin.version())
          .scan(page -> sink += page.layout().slot(page.bytes(), page.start(0), 1));
    }
    double scan = view.stateKeys() / ((System.nanoTime() - began) / 1e9);
    System.out.printf("  %-38s %6.2f M rows/s%n", "scan of a pinned version", scan / 1e6);
    double writing = 0;
    double beside = 0;
    mostHeldBack = 0;
    for (int round = 0; round < ROUNDS; round++) {
      writing = Math.max(writing, written(versions, view, pages, false));
      beside = Math.max(beside, written(versions, view, pages, true));
    }
    System.out.printf(
        "  %-38s %6.2f M events/s, %.0f%% less than alone; %,d KB kept for the scans at most%n",
        "published beside scans of pinned versions",
        beside / 1e6,
        100 * (1 - beside / writing),
        mostHeldBack >> 10);
    RelationVersion ordered = view.version(versions.published());
    long[] rows = new long[1];
    ordered.range(null, null, false, (b, at) -> ++rows[0] > 0); // makes the order
    began = System.nanoTime();
    ordered.range(null, null, false, (b, at) -> ++rows[0] > 0);
    double range = view.stateKeys() / ((System.nanoTime() - began) / 1e9);
    System.out.printf(
        "  %-38s %6.2f M rows/s%n", "range scan in key order, order made", range / 1e6);
    sink += rows[0];
  }

  /** A version and its rows. */
  private record Published(long version, RelationVersion rows) {}

  /** Events a second of a writer, alone or beside a thread that scans one version after another. */
  private double written(Versions versions, Circuit view, Page[] pages, boolean scanned) {
    AtomicReference<Published> newest =
        new AtomicReference<>(
            new Published(versions.published(), view.version(versions.published())));
    AtomicBoolean writing = new AtomicBoolean(true);
    Thread reader =
        new Thread(
            () -> {
              while (writing.get()) {
                try (Versions.Pin pin = versions.pin()) {
                  Published now = newest.get();
                  if (now.version == pin.version()) {
                    now.rows.scan(page -> sink += page.size());
                  }
                }
              }
            });
    if (scanned) {
      reader.start();
    }
    long began = System.nanoTime();
    for (Page page : pages) {
      view.feed(1, page);
      view.flush(Epoch.OUTSIDE);
      view.clearOutput();
      versions.publish();
      newest.set(new Published(versions.published(), view.version(versions.published())));
      mostHeldBack = Math.max(mostHeldBack, versions.heldBackBytes());
    }
    double rate = events / ((System.nanoTime() - began) / 1e9);
    writing.set(false);
    try {
      reader.join();
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
    return rate;
  }

  /** Look-ups in the hand-written map: no version, no row, no other thread. */
  private double lookupsByHand(Page[] pages) {
    HandWritten map = new HandWritten();
    for (Page page : pages) {
      for (int i = 0; i < page.size(); i++) {
        map.add(page.layout().slot(page.bytes(), page.start(i), 0), 1);
      }
    }
    SplittableRandom random = new SplittableRandom(4);
    long asked = 0;
    long began = System.nanoTime();
    while (System.nanoTime() - began < 2_000_000_000L) {
      for (int i = 0; i < 1000; i++) {
        sink += map.sum(random.nextInt(keys));
        asked++;
      }
    }
    return asked / ((System.nanoTime() - began) / 1e9);
  }

  private double lookups(Versions versions, Circuit view, Page[] pages) {
    AtomicReference<Published> published =
        new AtomicReference<>(
            new Published(versions.published(), view.version(versions.published())));
    AtomicBoolean writing = new AtomicBoolean(pages != null);
    Thread writer =
        new Thread(
            () -> {
              for (int i = 0; writing.get(); i = (i + 1) % pages.length) {
                view.feed(1, pages[i]);
                view.flush(Epoch.OUTSIDE);
                versions.publish();
                published.set(
                    new Published(versions.published(), view.version(versions.published())));
              }
            });
    if (pages != null) {
      writer.start();
    }
    SplittableRandom random = new SplittableRandom(4);
    Object[] key = new Object[1];
    long asked = 0;
    long[] found = new long[1];
    long began = System.nanoTime();
    while (System.nanoTime() - began < 2_000_000_000L) {
      for (int i = 0; i < 1000; i++) {
        key[0] = (long) random.nextInt(keys);
        try (Versions.Pin pin = versions.pin()) {
          Published now = published.get();
          if (now.version == pin.version()) { // otherwise the next one is about to be told
            now.rows.find(key, (bytes, at) -> ++found[0] > 0);
            asked++;
          }
        }
      }
    }
    double rate = asked / ((System.nanoTime() - began) / 1e9);
    writing.set(false);
    try {
      writer.join();
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
    sink += found[0] + published.get().rows.count();
    return rate;
  }
}
