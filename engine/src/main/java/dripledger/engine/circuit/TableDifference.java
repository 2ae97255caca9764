package dripledger.engine.circuit;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.view.RelationVersion;
import java.util.function.Consumer;

/** What differs between two tables of the same columns and key. Stateless. */
public final class TableDifference {
  private TableDifference() {}

  /**
   * Gives the changes that lead from one to the other.
   *
   * @param older of the same schema and key, readable
   * @param newer unique rows, which nobody changes now
   * @param sink the page is reused once it returns
   */
  public static void between(RelationVersion older, KeptRows newer, Consumer<Page> sink) {
    RowLayout layout = newer.layout();
    int[] key = newer.key();
    Page page = new Page(layout);
    RowWriter keyRow = new RowWriter(newer.keyLayout(), 64);
    older.scan(
        rows -> {
          for (int i = 0; i < rows.size(); i++) {
            byte[] bytes = rows.bytes();
            int start = rows.start(i);
            keyOf(layout, key, bytes, start, keyRow);
            boolean[] same = new boolean[1];
            newer.findNow(
                keyRow.bytes(),
                keyRow.start(),
                (found, at, length) ->
                    same[0] =
                        length == layout.length(bytes, start)
                            && Bytes.equal(found, at, bytes, start, length));
            if (!same[0]) {
              page.append(bytes, start, layout.length(bytes, start), -1);
              handOn(page, sink, false);
            }
          }
        });
    newer.allNow(
        (bytes, at, length) -> {
          boolean[] same = new boolean[1];
          older.find(
              keyValues(layout, key, bytes, at),
              (found, place) -> {
                same[0] =
                    layout.length(found, place) == length
                        && Bytes.equal(found, place, bytes, at, length);
                return true;
              });
          if (!same[0]) {
            page.append(bytes, at, length, 1);
            handOn(page, sink, false);
          }
        });
    handOn(page, sink, true);
  }

  private static void handOn(Page page, Consumer<Page> sink, boolean last) {
    if (page.size() >= RelationVersion.PIECE_ROWS || last && !page.isEmpty()) {
      sink.accept(page);
      page.clear();
    }
  }

  private static Object[] keyValues(RowLayout layout, int[] key, byte[] bytes, int row) {
    Object[] values = new Object[key.length];
    for (int k = 0; k < key.length; k++) {
      values[k] = BoxedRows.readColumn(layout, bytes, row, key[k]);
    }
    return values;
  }

  private static void keyOf(RowLayout layout, int[] key, byte[] bytes, int row, RowWriter writer) {
    writer.truncate(0);
    writer.begin();
    for (int k = 0; k < key.length; k++) {
      writer.copy(k, layout, bytes, row, key[k]);
    }
    writer.finish();
  }
}
