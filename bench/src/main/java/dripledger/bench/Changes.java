package dripledger.bench;

import dripledger.demo.PostgresCluster;
import dripledger.engine.Engine;
import dripledger.engine.EngineOptions;
import dripledger.engine.TestEngine;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.circuit.Circuit;
import dripledger.engine.circuit.Epoch;
import dripledger.engine.circuit.KeptRows;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.source.Connectors;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.engine.store.Versions;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.Statement;
import java.time.Clock;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.Map;
import java.util.SplittableRandom;

/**
 * What one change costs, whatever the size of what is kept: queries over tables of 10 thousand rows
 * and more, one changed row against PostgreSQL's REFRESH, and two loops written by hand: a filter
 * with a projection, and values counted once for each group.
 */
final class Changes {
  private static final ColumnType NUMBER = ColumnType.of(Kind.BIGINT).notNull();
  private static final int BATCH = 1000;
  private static final int BATCHES = 300;
  private static final int WARM_UP = 100;
  private static final int GROUPS = 1000;

  private final int most;
  private KeptRows parcels; // if they are looked up in, or null
  private long sink;

  /**
   * @param most rows of the largest table
   */
  Changes(int most) {
    this.most = most;
  }

  static Schema schema(String... names) {
    return new Schema(Arrays.stream(names).map(n -> new Column(n, NUMBER)).toList());
  }

  static PlanNode plan(String query) {
    return plan(query, table(1, "parcel", schema("parcel", "gate", "grams")));
  }

  /** The plan of a query over parcels, a table or a stream, and the table of gates. */
  static PlanNode plan(String query, CatalogObject parcels) {
    Catalog catalog = Catalog.EMPTY.with(parcels).with(table(2, "gate", schema("gate", "hall")));
    SqlFrontEnd frontEnd = new SqlFrontEnd();
    String sql = "CREATE MATERIALIZED VIEW v AS " + query;
    return ((Command.CreateMaterializedView)
            frontEnd.check(frontEnd.parse(sql).get(0), catalog, Map.of(), 0))
        .plan();
  }

  private static CatalogObject table(long id, String name, Schema schema) {
    return new CatalogObject.Table(id, name, "", schema, new int[] {0}, Origins.NONE, null);
  }

  void run() throws Exception {
    byHand();
    sizes();
    oneRow();
    System.out.println(sink == 42 ? "" : " "); // so that nothing is left out
  }

  // ---- sizes

  private void sizes() {
    System.out.printf("%nchanges: updates of random rows, %,d an epoch, median of epochs%n", BATCH);
    Map<String, String> queries = new LinkedHashMap<>();
    queries.put(
        "filtered and computed", "SELECT parcel, grams * 2 AS g FROM parcel WHERE grams > 9");
    queries.put(
        "grouped by 1,000 gates",
        "SELECT gate, COUNT(*) AS n, SUM(grams) AS s FROM parcel GROUP BY gate");
    queries.put(
        "joined and grouped by 10 halls",
        "SELECT hall, COUNT(*) AS n, SUM(grams) AS s FROM parcel JOIN gate ON parcel.gate = gate.gate"
            + " GROUP BY hall");
    queries.put(
        "the three heaviest of each gate",
        "SELECT * FROM parcel QUALIFY ROW_NUMBER() OVER (PARTITION BY gate ORDER BY grams DESC, parcel) <= 3");
    queries.put("different gates", "SELECT COUNT(DISTINCT gate) AS n FROM parcel");
    for (Map.Entry<String, String> query : queries.entrySet()) {
      StringBuilder line = new StringBuilder();
      double first = 0;
      for (int rows = 10_000; rows <= most; rows *= rows < 1_000_000 ? 100 : 10) {
        double nanos = perChange(plan(query.getValue()), rows);
        first = first == 0 ? nanos : first;
        line.append(String.format("  %,d rows: %.0f ns (%.1fx)", rows, nanos, nanos / first));
      }
      System.out.printf("  %-32s%s%n", query.getKey(), line);
    }
  }

  private static void add(Page page, long weight, long... values) {
    RowWriter writer = page.begin();
    for (int i = 0; i < values.length; i++) {
      writer.setLong(i, values[i]);
    }
    page.commit(weight);
  }

  /** Nanoseconds that the change of a row takes. */
  private double perChange(PlanNode plan, int rows) {
    SplittableRandom random = new SplittableRandom(3);
    Versions versions = Versions.ofGraph();
    Circuit circuit = new Circuit(plan);
    circuit.join(versions);
    int[] grams = new int[rows];
    Page gates = new Page(new RowLayout(schema("gate", "hall")), GROUPS);
    for (int g = 0; g < GROUPS; g++) {
      add(gates, 1, g, g % 10);
    }
    parcels = null;
    if (circuit.inputs().contains(2L)) {
      KeptRows table = KeptRows.unique(schema("gate", "hall"), new int[] {0});
      table.join(versions);
      table.apply(gates);
      parcels = KeptRows.unique(schema("parcel", "gate", "grams"), new int[] {0});
      parcels.join(versions);
      circuit.tables(id -> id == 2 ? table.byKey() : parcels.byKey());
    }
    Page page = new Page(new RowLayout(schema("parcel", "gate", "grams")), 65_536);
    for (int i = 0; i < rows; i++) {
      grams[i] = random.nextInt(30_000);
      add(page, 1, i, i % GROUPS, grams[i]);
      if (page.size() == 65_536 || i == rows - 1) {
        step(circuit, versions, page);
        page.clear();
      }
    }
    double[] nanos = new double[BATCHES];
    for (int b = -WARM_UP; b < BATCHES; b++) {
      page.clear();
      for (int i = 0; i < BATCH; i++) {
        int row = random.nextInt(rows);
        add(page, -1, row, row % GROUPS, grams[row]);
        grams[row] = random.nextInt(30_000);
        add(page, 1, row, row % GROUPS, grams[row]);
      }
      long began = System.nanoTime();
      step(circuit, versions, page);
      if (b >= 0) {
        nanos[b] = System.nanoTime() - began;
      }
    }
    Arrays.sort(nanos);
    return nanos[BATCHES / 2] / BATCH;
  }

  private void step(Circuit circuit, Versions versions, Page page) {
    if (parcels != null) {
      parcels.apply(page);
    }
    circuit.feed(1, page);
    sink += circuit.flush(Epoch.OUTSIDE).size();
    circuit.clearOutput();
    versions.publish();
  }

  // ---- one row against a refresh

  private void oneRow() throws Exception {
    String query = "SELECT gate, COUNT(*) AS n, SUM(grams) AS s FROM parcel GROUP BY gate";
    System.out.printf("%none changed row of %,d: %s%n", most, query);
    PostgresCluster cluster = PostgresCluster.temporary(false);
    double refresh;
    try (Connection pg =
            DriverManager.getConnection(
                cluster.jdbcUrl(PostgresCluster.DATABASE), PostgresCluster.USER, "loopback");
        Statement s = pg.createStatement()) {
      s.execute("CREATE TABLE parcel (parcel BIGINT PRIMARY KEY, gate BIGINT, grams BIGINT)");
      s.execute(
          "INSERT INTO parcel SELECT n, n % 1000, n % 30000 FROM generate_series(1, "
              + most
              + ") AS n");
      s.execute("ANALYZE");
      s.execute("CREATE MATERIALIZED VIEW v AS " + query);
      double[] seconds = new double[3];
      for (int i = 0; i < seconds.length; i++) {
        long began = System.nanoTime();
        s.execute("UPDATE parcel SET grams = grams + 1 WHERE parcel = " + (i + 7));
        s.execute("REFRESH MATERIALIZED VIEW v");
        seconds[i] = (System.nanoTime() - began) / 1e9;
      }
      Arrays.sort(seconds);
      refresh = seconds[1];
    }
    cluster.close();
    System.out.printf("  PostgreSQL, UPDATE and REFRESH            %10.1f ms%n", refresh * 1000);
    double epoch = ofOne(plan(query));
    print("the step alone, published", epoch, refresh);
    print("UPDATE of SQL until the view shows it", ofStatement(query), refresh);
  }

  private static void print(String what, double nanos, double refresh) {
    System.out.printf("  %-42s%10.4f ms   %,.0f times%n", what, nanos / 1e6, refresh * 1e9 / nanos);
  }

  /** Nanoseconds of an epoch in which one row changes. */
  private double ofOne(PlanNode plan) {
    Versions versions = Versions.ofGraph();
    Circuit circuit = new Circuit(plan);
    circuit.join(versions);
    Page page = new Page(new RowLayout(schema("parcel", "gate", "grams")), 65_536);
    for (int i = 0; i < most; i++) {
      add(page, 1, i, i % GROUPS, i % 30_000);
      if (page.size() == 65_536 || i == most - 1) {
        step(circuit, versions, page);
        page.clear();
      }
    }
    double[] nanos = new double[5000];
    for (int i = 0; i < nanos.length; i++) {
      page.clear();
      add(page, -1, i, i % GROUPS, i % 30_000);
      add(page, 1, i, i % GROUPS, i % 30_000 + 1);
      long began = System.nanoTime();
      step(circuit, versions, page);
      nanos[i] = System.nanoTime() - began;
    }
    Arrays.sort(nanos);
    return nanos[nanos.length / 2];
  }

  private double ofStatement(String query) {
    try (Engine engine =
        new Engine(
            EngineOptions.defaults(), TestEngine.records(), Connectors.NONE, Clock.systemUTC())) {
      engine.start();
      engine.execute("CREATE TABLE parcel (parcel BIGINT PRIMARY KEY, gate BIGINT, grams BIGINT)");
      int piece = 50_000;
      for (int from = 1; from <= most; from += piece) {
        engine.execute(
            "INSERT INTO parcel SELECT n, n % 1000, n % 30000 FROM generate_series("
                + from
                + ", "
                + Math.min(most, from + piece - 1)
                + ") AS n");
      }
      engine.execute("CREATE MATERIALIZED VIEW v AS " + query);
      double[] nanos = new double[600];
      for (int i = 0; i < nanos.length; i++) {
        long began = System.nanoTime();
        engine.execute("UPDATE parcel SET grams = grams + 1 WHERE parcel = " + (i + 7));
        nanos[i] = System.nanoTime() - began;
      }
      double[] last = Arrays.copyOfRange(nanos, nanos.length / 2, nanos.length);
      Arrays.sort(last);
      return last[last.length / 2];
    }
  }

  // ---- loops by hand

  private void byHand() {
    int events = most;
    int rows = 65_536;
    long[] best = new long[4];
    Arrays.fill(best, Long.MAX_VALUE);
    for (int round = 0; round < 3; round++) {
      filter(events, rows, best);
      distinct(events, rows, best);
    }
    System.out.printf("%nloops by hand over %,d events, best of 3%n", events);
    rate("filter and projection: hand-written loop", events, best[0], 0);
    rate("filter and projection", events, best[1], best[0]);
    rate("values counted once a group: hand-written", events, best[2], 0);
    rate("values counted once a group: published", events, best[3], best[2]);
  }

  private static void rate(String what, int events, long nanos, long base) {
    System.out.printf(
        "  %-44s %6.2f M events/s%s%n",
        what,
        events * 1e3 / nanos,
        base == 0 ? "" : String.format("   %.2f of that loop", (double) base / nanos));
  }

  /** Rows of bytes in, rows of bytes out: what the loop does, too. */
  private void filter(int events, int rows, long[] best) {
    SplittableRandom random = new SplittableRandom(5);
    Versions versions = Versions.ofGraph();
    Circuit circuit =
        new Circuit(plan("SELECT parcel, grams * 2 AS g FROM parcel WHERE grams > 3000"));
    circuit.join(versions);
    RowLayout in = new RowLayout(schema("parcel", "gate", "grams"));
    Page page = new Page(in, rows);
    RowLayout out = new RowLayout(schema("parcel", "g"));
    long hand = 0;
    long ours = 0;
    Page made = new Page(out, rows);
    for (int e = 0; e < events; e += rows) {
      page.clear();
      for (int i = 0; i < rows; i++) {
        add(page, 1, e + i, i % GROUPS, random.nextInt(30_000));
      }
      long began = System.nanoTime();
      made.clear();
      byte[] bytes = page.bytes();
      for (int i = 0; i < page.size(); i++) {
        long grams = in.slot(bytes, page.start(i), 2);
        if (grams > 3000) {
          RowWriter writer = made.begin();
          writer.setLong(0, in.slot(bytes, page.start(i), 0));
          writer.setLong(1, Math.multiplyExact(grams, 2L));
          made.commit(page.weight(i));
        }
      }
      long between = System.nanoTime();
      sink += made.size();
      circuit.feed(1, page);
      sink += circuit.flush(Epoch.OUTSIDE).size();
      circuit.clearOutput();
      hand += between - began;
      ours += System.nanoTime() - between;
    }
    best[0] = Math.min(best[0], hand);
    best[1] = Math.min(best[1], ours);
  }

  private void distinct(int events, int rows, long[] best) {
    SplittableRandom random = new SplittableRandom(6);
    Versions versions = Versions.ofGraph();
    Circuit circuit =
        new Circuit(plan("SELECT gate, COUNT(DISTINCT grams) AS n FROM parcel GROUP BY gate"));
    circuit.join(versions);
    circuit.rowsWanted(false);
    Page page = new Page(new RowLayout(schema("parcel", "gate", "grams")), rows);
    LongMap copies = new LongMap();
    LongMap counts = new LongMap();
    int[] gates = new int[rows];
    int[] grams = new int[rows];
    long hand = 0;
    long ours = 0;
    for (int e = 0; e < events; e += rows) {
      page.clear();
      for (int i = 0; i < rows; i++) {
        gates[i] = random.nextInt(GROUPS);
        grams[i] = random.nextInt(1000);
        add(page, 1, e + i, gates[i], grams[i]);
      }
      long began = System.nanoTime();
      for (int i = 0; i < rows; i++) {
        long pair = gates[i] * 1000L + grams[i];
        long before = copies.get(pair);
        copies.put(pair, before + 1);
        if (before == 0) {
          counts.put(gates[i], counts.get(gates[i]) + 1);
        }
      }
      long between = System.nanoTime();
      circuit.feed(1, page);
      circuit.flush(Epoch.OUTSIDE);
      versions.publish();
      hand += between - began;
      ours += System.nanoTime() - between;
    }
    sink += counts.get(7) + circuit.version(versions.published()).count();
    best[2] = Math.min(best[2], hand);
    best[3] = Math.min(best[3], ours);
  }
}
