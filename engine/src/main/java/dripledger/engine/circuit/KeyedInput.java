package dripledger.engine.circuit;

import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.source.KeyedRows;
import dripledger.engine.state.KeyedArena;

/**
 * Turns the operations of a keyed table (see {@link KeyedRows}) into its delta: for every key that
 * was touched in the epoch, the row that was there with weight −1 and the row that is there now
 * with +1, and nothing if they are the same.
 *
 * <p>State within an epoch: for each touched key the row before and the row now. A row before is
 * looked up in the table once, at the first touch. CLEAR makes all rows now absent and remembers
 * that rows of keys never touched go too. What an operation keeps comes from the row now (or, if
 * that moved, from the row the operation before deleted); a kept column of a row that is not there
 * is NULL.
 */
final class KeyedInput {
  private static final int BEFORE = 0;
  private static final int NOW = 4;

  private final Schema schema;
  private final RowLayout layout;
  private final RowLayout operations;
  private final KeptRows store;
  private final int[] key;
  private final Page before;
  private final Page now;
  private final RowWriter keyRow;
  private KeyedArena touched;
  private int[] order = new int[64];
  private boolean cleared;
  private int deletedLast;

  KeyedInput(Schema schema, int[] key, KeptRows store) {
    this.schema = schema;
    this.store = store;
    this.key = key;
    layout = new RowLayout(schema);
    operations = new RowLayout(KeyedRows.schema(schema));
    before = new Page(layout);
    now = new Page(layout);
    keyRow = new RowWriter(store.keyLayout(), 64);
    touched = new KeyedArena(-1, 8);
  }

  /** Takes in operations. */
  void take(Page page) {
    take(page, 0, page.size());
  }

  /** Takes in some of the operations of a page. */
  void take(Page page, int from, int to) {
    for (int i = from; i < to; i++) {
      byte[] bytes = page.bytes();
      int row = page.start(i);
      int what = (int) operations.slot(bytes, row, KeyedRows.doColumn(schema));
      if (what == KeyedRows.CLEAR) {
        clear();
        continue;
      }
      int entry = entry(bytes, row);
      int value = touched.valueAt(entry);
      int old = Bytes.getInt(touched.chunk(entry), value + NOW);
      if (what == KeyedRows.DELETE) {
        Bytes.putInt(touched.chunk(entry), value + NOW, 0);
        deletedLast = old;
      } else {
        int kept = what == KeyedRows.PUT_MOVED ? deletedLast : old;
        put(bytes, row, kept);
        Bytes.putInt(touched.chunk(entry), value + NOW, now.size());
      }
    }
  }

  private void clear() {
    cleared = true;
    for (int i = 0; i < touched.size(); i++) {
      Bytes.putInt(touched.chunk(order[i]), touched.valueAt(order[i]) + NOW, 0);
    }
  }

  /** The entry of a row's key; at the first touch the row before is looked up. */
  private int entry(byte[] bytes, int row) {
    keyRow.truncate(0);
    keyRow.begin();
    for (int k = 0; k < key.length; k++) {
      keyRow.copy(k, operations, bytes, row, key[k]);
    }
    int length = keyRow.finish();
    int known = touched.find(keyRow.bytes(), 0, length);
    if (known != 0) {
      return known;
    }
    int entry = touched.findOrInsert(keyRow.bytes(), 0, length);
    if (touched.size() > order.length) {
      order = java.util.Arrays.copyOf(order, order.length * 2);
    }
    order[touched.size() - 1] = entry;
    store.findNow(
        keyRow.bytes(),
        0,
        (found, at, size) -> {
          before.append(found, at, size, 1);
          Bytes.putInt(touched.chunk(entry), touched.valueAt(entry) + BEFORE, before.size());
          if (!cleared) {
            now.append(found, at, size, 1);
            Bytes.putInt(touched.chunk(entry), touched.valueAt(entry) + NOW, now.size());
          }
        });
    return entry;
  }

  /**
   * Appends the row of a put to {@link #now}; {@code kept} is one more than a place in it, or 0.
   */
  private void put(byte[] bytes, int row, int kept) {
    int keepColumn = KeyedRows.keepColumn(schema);
    boolean anyKept = !operations.isNull(bytes, row, keepColumn);
    int keep = anyKept ? operations.variableOffset(bytes, row, keepColumn) : 0;
    RowWriter writer = now.begin();
    for (int c = 0; c < schema.size(); c++) {
      if (!anyKept || bytes[keep + c] == 0) {
        writer.copy(c, operations, bytes, row, c);
      } else if (kept > 0) {
        // The writer may grow, so its bytes are asked for each time.
        writer.copy(c, layout, writer.bytes(), now.start(kept - 1), c);
      } else {
        writer.setNull(c);
      }
    }
    now.commit(1);
  }

  /** Ends the epoch: appends the delta. */
  void flush(Page delta) {
    for (int i = 0; i < touched.size(); i++) {
      int value = touched.valueAt(order[i]);
      int b = Bytes.getInt(touched.chunk(order[i]), value + BEFORE) - 1;
      int n = Bytes.getInt(touched.chunk(order[i]), value + NOW) - 1;
      if (b >= 0 && n >= 0 && same(b, n)) {
        continue;
      }
      if (b >= 0) {
        delta.append(before.bytes(), before.start(b), before.end(b) - before.start(b), -1);
      }
      if (n >= 0) {
        delta.append(now.bytes(), now.start(n), now.end(n) - now.start(n), 1);
      }
    }
    if (cleared) {
      store.allNow(
          (bytes, at, size) -> {
            keyRow.truncate(0);
            keyRow.begin();
            for (int k = 0; k < key.length; k++) {
              keyRow.copy(k, layout, bytes, at, key[k]);
            }
            if (touched.find(keyRow.bytes(), 0, keyRow.finish()) == 0) {
              delta.append(bytes, at, size, -1);
            }
          });
    }
    reset();
  }

  private boolean same(int b, int n) {
    int length = before.end(b) - before.start(b);
    return length == now.end(n) - now.start(n)
        && Bytes.equal(before.bytes(), before.start(b), now.bytes(), now.start(n), length);
  }

  private void reset() {
    before.clear();
    now.clear();
    touched = new KeyedArena(-1, 8);
    cleared = false;
    deletedLast = 0;
  }
}
