package dripledger.engine.epoch;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LateRows;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.QueryNodes;
import dripledger.engine.plan.PlanCut;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.source.InputProgress;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.SqlFrontEnd;
import java.time.LocalDateTime;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.Test;

/** A partition that falls silent is set aside, and what it holds back settles without an event. */
class SilentPartitionTest {
  private static final long IDLE_MILLIS = 300;
  private static final Schema SCHEMA =
      new Schema(List.of(new Column("at", ColumnType.of(Kind.TIMESTAMP).notNull())));
  private static final EpochLimits LIMITS = new EpochLimits(1000, 1 << 20, Long.MAX_VALUE, 1, 1000);

  private final long[] numbers = {0};

  private static Page page(int... seconds) {
    Page page = new Page(new RowLayout(SCHEMA));
    for (int second : seconds) {
      LocalDateTime at = LocalDateTime.parse("2026-03-02T06:00:00").plusSeconds(second);
      BoxedRows.write(page.begin(), new Object[] {at});
      page.commit(1);
    }
    return page;
  }

  private static EpochInput events(int partition, int... seconds) {
    return new EpochInput(
        List.of(new EpochInput.Change(1, page(seconds), partition)),
        -1,
        InputProgress.NOTHING,
        null);
  }

  private static QueryNode view() {
    CatalogObject.Stream stream =
        new CatalogObject.Stream(1, "scan", "", SCHEMA, 0, 0, Origins.NONE, null, Map.of());
    SqlFrontEnd frontEnd = new SqlFrontEnd();
    String sql =
        "CREATE MATERIALIZED VIEW v OPTIONS (rows 'settled') AS SELECT window_end, COUNT(*) AS n FROM"
            + " TABLE(TUMBLE(TABLE scan, DESCRIPTOR(at), INTERVAL '1' MINUTE)) GROUP BY window_end";
    Command.CreateMaterializedView command =
        (Command.CreateMaterializedView)
            frontEnd.check(frontEnd.parse(sql).get(0), Catalog.EMPTY.with(stream), Map.of(), 0);
    PlanCut cut = PlanCut.of(command.plan(), id -> null);
    assertThat(cut.steps()).as("what settles is in no step that others read").isEmpty();
    return QueryNodes.view(2, "v", cut, command.schema(), command.key());
  }

  private static void await(EpochLoop loop, long rows) throws InterruptedException {
    for (int i = 0; i < 200 && loop.snapshot().relation(2).count() != rows; i++) {
      Thread.sleep(50);
    }
    assertThat(loop.snapshot().relation(2).count()).isEqualTo(rows);
  }

  @Test
  void whatItHoldsBackSettlesAndItComesBackBehindTheOthers() throws Exception {
    try (EpochLoop loop = new EpochLoop(LIMITS, () -> 0, count -> numbers[0] += count)) {
      InputNode input = InputNode.stream(1, "scan", new RowLayout(SCHEMA), 0, 0, IDLE_MILLIS);
      QueryNode view = view();
      loop.attach(input);
      loop.attach(view);
      loop.start();
      loop.submit(events(1, 10));
      loop.submit(events(0, 5, 130));
      await(loop, 0);
      while (loop.snapshot().relation(2).count() == 0) { // events of one keep the other silent
        Thread.sleep(50);
        loop.submit(events(0, 131));
      }
      await(loop, 1);
      loop.submit(events(1, 20, 125, 140));
      loop.submit(events(0, 300));
      while (loop.snapshot().relation(2).count() < 2) {
        Thread.sleep(50);
        loop.submit(events(0, 300));
      }
      await(loop, 2);
      assertThat(input.returns()).isNotEmpty();
      assertThat(input.returns().get(0).partition()).isEqualTo(1);
      assertThat(input.returns().get(0).row()).as("its first event came before").isEqualTo(1);
      long late = view.circuit().late().values().stream().mapToLong(LateRows::count).sum();
      assertThat(late).as("the event of a window that had been settled meanwhile").isEqualTo(1);
    }
  }
}
