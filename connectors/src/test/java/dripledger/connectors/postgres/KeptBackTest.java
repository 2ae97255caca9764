package dripledger.connectors.postgres;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.source.SourceBatch;
import dripledger.engine.source.SpooledRows;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import java.util.function.Consumer;
import org.junit.jupiter.api.io.TempDir;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/** What changes while a table is loaded comes behind the load, whole and in order. */
class KeptBackTest {
  private static final RowLayout LAYOUT =
      new RowLayout(new Schema(List.of(new Column("n", ColumnType.of(Kind.BIGINT)))));

  @ParameterizedTest
  @ValueSource(longs = {0, 200, 1L << 20})
  void nothingIsMissingAndNothingIsThereTwice(long mostBytes, @TempDir Path folder) {
    for (int seed = 0; seed < 50; seed++) {
      Random random = new Random(seed);
      KeptBack kept = new KeptBack(LAYOUT, mostBytes);
      int loadedAt = random.nextInt(40);
      int position = 0; // what is before it is not sent again
      List<Long> expected = new ArrayList<>();
      for (int lsn = 0; lsn < 100; lsn++) {
        if (random.nextInt(20) == 0) { // the connection was lost
          kept.forgetFrom(position);
          lsn = position;
        }
        kept.add(transaction(lsn, random.nextInt(4), random.nextInt(3) == 0 ? folder : null));
        if (random.nextInt(5) == 0) {
          position = lsn + 1;
          kept.settle(position, loadedAt, folder);
        }
      }
      for (long lsn = loadedAt; lsn < 100; lsn++) {
        expected.add(lsn);
      }
      List<Long> found = new ArrayList<>();
      Consumer<Page> rows =
          page -> {
            for (int i = 0; i < page.size(); i++) {
              long n = (Long) BoxedRows.readColumn(LAYOUT, page.bytes(), page.start(i), 0);
              assertThat(page.mark(i)).isEqualTo(1000 + n);
              if (found.isEmpty() || found.get(found.size() - 1) != n) {
                found.add(n);
              }
            }
          };
      for (SourceBatch batch : kept.batches(7, loadedAt)) {
        if (batch.spooled() != null) {
          batch.spooled().read(rows);
          batch.spooled().release();
        }
        rows.accept(batch.page());
      }
      assertThat(found).as("seed " + seed).isEqualTo(expected);
      kept.clear();
      assertThat(kept.batches(7, 0)).allMatch(b -> b.page().isEmpty() && b.spooled() == null);
    }
  }

  /** At least one row, all of the number of the transaction; some of them spooled before. */
  private static KeptBack.Transaction transaction(int lsn, int more, Path spooledTo) {
    SpooledRows spooled = null;
    if (spooledTo != null) {
      spooled = new SpooledRows(LAYOUT, spooledTo);
      spooled.add(page(lsn, 1 + more));
    }
    return new KeptBack.Transaction(lsn, page(lsn, 1 + more), List.of(), spooled);
  }

  private static Page page(int lsn, int rows) {
    Page page = new Page(LAYOUT);
    for (int i = 0; i < rows; i++) {
      BoxedRows.write(page.begin(), (long) lsn);
      page.commit(1);
      page.mark(i, 1000 + lsn);
    }
    return page;
  }
}
