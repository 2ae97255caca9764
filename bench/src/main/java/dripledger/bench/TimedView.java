package dripledger.bench;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.QueryNodes;
import dripledger.engine.epoch.EpochInput;
import dripledger.engine.epoch.EpochLimits;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.SqlFrontEnd;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;

/** A materialized view of streams of events (k, at, v), stepped by whoever measures it. */
final class TimedView implements AutoCloseable {
  private static final Schema SCHEMA =
      new Schema(
          List.of(
              new Column("k", ColumnType.of(Kind.BIGINT).notNull()),
              new Column("at", ColumnType.of(Kind.TIMESTAMP).notNull()),
              new Column("v", ColumnType.of(Kind.BIGINT).notNull())));
  private static final RowLayout LAYOUT = new RowLayout(SCHEMA);

  private final EpochLoop loop;
  private final QueryNode view;
  private long sequence = 1;

  /**
   * @param latenessMicros of each stream
   * @param options of the view, or empty
   * @param streams the names of streams that the query reads; they are numbered from 1 on
   */
  TimedView(
      long latenessMicros, int epochRows, String options, String query, List<String> streams) {
    Catalog catalog = Catalog.EMPTY;
    for (int i = 0; i < streams.size(); i++) {
      catalog =
          catalog.with(
              new CatalogObject.Stream(
                  i + 1,
                  streams.get(i),
                  "",
                  SCHEMA,
                  1,
                  latenessMicros,
                  Origins.NONE,
                  null,
                  Map.of()));
    }
    SqlFrontEnd frontEnd = new SqlFrontEnd();
    String sql = "CREATE MATERIALIZED VIEW v" + options + " AS " + query;
    Command.CreateMaterializedView made =
        (Command.CreateMaterializedView)
            frontEnd.check(frontEnd.parse(sql).get(0), catalog, Map.of(), 0);
    PlanCut cut = PlanCut.of(made.plan(), id -> null);
    long[] next = {1};
    EpochLimits limits = new EpochLimits(epochRows, 1L << 30, Long.MAX_VALUE, 1, 1000);
    loop = new EpochLoop(limits, () -> 0, count -> next[0] += count);
    for (int i = 0; i < streams.size(); i++) {
      loop.attach(InputNode.stream(i + 1, streams.get(i), LAYOUT, 1, latenessMicros, 60_000));
    }
    cut.steps().forEach(step -> loop.attach(QueryNodes.step(step, "v")));
    view = QueryNodes.view(100, "v", cut, made.schema(), made.key());
    loop.attach(view);
  }

  /** Prints a rate of events a second, and what it is of a loop by hand, if that is not 0. */
  static void print(String what, double rate, double base) {
    System.out.printf(
        "  %-48s %6.2f M events/s%s%n",
        what, rate / 1e6, base == 0 ? "" : String.format("   %.2f of that loop", rate / base));
  }

  static Page page(int rows) {
    return new Page(LAYOUT, rows);
  }

  static void add(Page page, long key, long at, long value) {
    RowWriter writer = page.begin();
    writer.setLong(0, key);
    writer.setLong(1, at);
    writer.setLong(2, value);
    page.commit(1);
  }

  /** One epoch over pages of the streams; answers its nanoseconds. */
  long step(Page... pages) {
    List<EpochInput.Change> changes = new ArrayList<>();
    for (int i = 0; i < pages.length; i++) {
      changes.add(new EpochInput.Change(i + 1, pages[i]));
    }
    long began = System.nanoTime();
    loop.stepNow(sequence++, changes);
    return System.nanoTime() - began;
  }

  /** Changes that the view has made. */
  long changes() {
    if (view.failure() != null) {
      throw new IllegalStateException(view.failure());
    }
    return view.changes();
  }

  @Override
  public void close() {
    loop.close();
  }
}
