package dripledger.bench;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.KeptRows;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.QueryNodes;
import dripledger.engine.epoch.EpochInput;
import dripledger.engine.epoch.EpochLimits;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.SplittableRandom;

/** Eight views over one stream, kept up to date by one thread and by several together. */
final class Together {
  private static final int EPOCHS = 30;
  private static final int WARM_UP = 10;
  private static final int ROUNDS = 3;
  private static final int GATES = 1000;

  /** Each by groups of another size, so that none is like another. */
  private static final List<String> VIEWS =
      List.of(
          "SELECT gate, COUNT(*) AS n, SUM(grams) AS s FROM parcel GROUP BY gate",
          "SELECT parcel, COUNT(*) AS n, SUM(grams) AS s FROM parcel GROUP BY parcel",
          "SELECT parcel % 50000 AS p, MAX(grams) AS m FROM parcel GROUP BY parcel % 50000",
          "SELECT gate, COUNT(DISTINCT grams) AS n FROM parcel GROUP BY gate",
          "SELECT grams, COUNT(*) AS n FROM parcel WHERE parcel % 2 = 0 GROUP BY grams",
          "SELECT parcel, gate, COUNT(*) AS n FROM parcel GROUP BY parcel, gate",
          "SELECT hall, COUNT(*) AS n FROM parcel JOIN gate USING (gate) GROUP BY hall",
          "SELECT parcel % 200000 AS p, MIN(gate) AS a, AVG(grams) AS g FROM parcel"
              + " GROUP BY parcel % 200000");

  private final int rows;
  private final int epochRows;

  /**
   * @param rows of different parcels
   */
  Together(int rows, int epochRows) {
    this.rows = rows;
    this.epochRows = epochRows;
  }

  void run() {
    System.out.printf("%n%d views over one stream, epochs of %,d rows%n", VIEWS.size(), epochRows);
    double[] best = new double[2];
    for (int round = 0; round < ROUNDS; round++) {
      best[0] = Math.max(best[0], rate(1));
      best[1] = Math.max(best[1], rate(2));
    }
    System.out.printf("  %-44s %6.2f M rows/s%n", "one worker", best[0] / 1e6);
    System.out.printf(
        "  %-44s %6.2f M rows/s   %.2f of one%n", "two workers", best[1] / 1e6, best[1] / best[0]);
  }

  private double rate(int workers) {
    long[] next = {1};
    EpochLimits limits = new EpochLimits(epochRows, 1L << 30, Long.MAX_VALUE, workers, 1000);
    try (EpochLoop loop = new EpochLoop(limits, () -> 0, count -> next[0] += count)) {
      Schema schema = Changes.schema("parcel", "gate", "grams");
      RowLayout layout = new RowLayout(schema);
      loop.attach(InputNode.stream(1, "parcel", layout, -1, 0, 60_000));
      CatalogObject parcels =
          new CatalogObject.Stream(1, "parcel", "", schema, -1, 0, Origins.NONE, null, Map.of());
      RowLayout gates = new RowLayout(Changes.schema("gate", "hall"));
      KeptRows kept = KeptRows.unique(gates.schema(), new int[] {0});
      loop.attach(InputNode.table(2, "gate", gates, kept));
      List<QueryNode> views = new ArrayList<>();
      for (int v = 0; v < VIEWS.size(); v++) {
        PlanNode plan = Changes.plan(VIEWS.get(v), parcels);
        while (!(plan instanceof PlanNode.Aggregate)) {
          plan =
              plan.inputs().get(0); // what is made of the groups' rows is made when they are read
        }
        PlanCut.Step step = new PlanCut.Step(10 + v, (PlanNode.Aggregate) plan);
        views.add(QueryNodes.step(step, "view " + v));
        loop.attach(views.get(v));
      }
      Page halls = new Page(gates, GATES);
      for (int g = 0; g < GATES; g++) {
        add(halls, g, g % 10);
      }
      loop.stepNow(1, List.of(new EpochInput.Change(2, halls)));
      SplittableRandom random = new SplittableRandom(3);
      long nanos = 0;
      for (int epoch = 0; epoch < WARM_UP + EPOCHS; epoch++) {
        Page page = new Page(layout, epochRows);
        for (int i = 0; i < epochRows; i++) {
          add(page, random.nextInt(rows), random.nextInt(GATES), random.nextInt(30_000));
        }
        long began = System.nanoTime();
        loop.stepNow(epoch + 2L, List.of(new EpochInput.Change(1, page)));
        nanos += epoch < WARM_UP ? 0 : System.nanoTime() - began;
      }
      for (int v = 0; v < views.size(); v++) {
        if (views.get(v).failure() != null) {
          throw new IllegalStateException(VIEWS.get(v) + " has stopped");
        }
      }
      return (double) EPOCHS * epochRows / nanos * 1e9;
    }
  }

  private static void add(Page page, long... values) {
    RowWriter writer = page.begin();
    for (int i = 0; i < values.length; i++) {
      writer.setLong(i, values[i]);
    }
    page.commit(1);
  }
}
