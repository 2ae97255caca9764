package dripledger.engine.circuit;

import dripledger.engine.expr.Expr;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.store.JoinIndex;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;

/**
 * A side that is a table, joined on its key: rows are looked up where the table keeps them, and
 * nothing is kept here. What changes in the table must come before what the other side changes, and
 * be in the table by then: d(L ⋈ T) = L ⋈ dT + dL ⋈ (T + dT).
 */
final class TableSide extends JoinSide {
  /** The version of a table that is written: what it is now, while nobody changes it. */
  static final long NOW = -1;

  private final int[] picked; // which column of the table each one is
  private KeptRows table;
  private long version;

  // Of the other side's batch at hand, by its keys: their rows, if they are there.
  private final long[] hashes = new long[AHEAD];
  private final int[] blocks = new int[AHEAD];
  private final boolean[] found = new boolean[AHEAD];
  private final int[] which = new int[AHEAD]; // keys whose row is not where it was seen
  private long[] rows = new long[0]; // their blocks' words, one after the other
  private long[] block = new long[0];
  private int words; // of a key

  @SuppressWarnings("UnusedVariable")
  private long touched; // what was read only to have it near

  /**
   * @param input whose columns are in the order of the table's key
   * @param plan the table, or columns of it
   */
  TableSide(Input input, PlanNode plan) {
    super(input);
    picked = all(layout.columns());
    if (plan instanceof PlanNode.Transform t) {
      for (int c = 0; c < picked.length; c++) {
        picked[c] = ((Expr.Column) t.program().outputs().get(c)).index();
      }
    }
  }

  /**
   * Says where rows are looked up from here on.
   *
   * @param kept the table's rows; null while it is not known
   * @param at a version that is pinned, or {@link #NOW}
   */
  void table(KeptRows kept, long at) {
    table = kept;
    version = at;
    if (kept != null) {
      words = kept.store().keyWords();
      block = new long[words + kept.store().stateWords()];
      rows = new long[AHEAD * block.length];
    }
  }

  // ---- the other side's batch

  @Override
  void aheadOf(JoinSide other) {
    KeyedStore store = table.store();
    long at = version == NOW ? store.newest() : version;
    int count = other.keyCount();
    long[] keys = other.keyWords();
    int[] noted = other.noted();
    touched = store.lookAhead(noted, count);
    int unknown = 0;
    for (int i = 0; i < count; i++) {
      found[i] =
          noted[i] >= 0 && !other.isLongKey(i) && store.isAt(noted[i], keys, i * words, at, block);
      if (found[i]) {
        keep(i);
      } else {
        which[unknown++] = i;
      }
    }
    lookUp(other, which, unknown, at);
    refuseIfGone();
    for (int i = 0; i < count; i++) {
      if (found[i]) {
        touched += table.rows().touch(rows, i * block.length);
      }
    }
  }

  /** Keeps the words of the block that was found. */
  private void keep(int key) {
    System.arraycopy(block, 0, rows, key * block.length, block.length);
  }

  /** Looks up some of the batch's keys. */
  private void lookUp(JoinSide other, int[] some, int count, long at) {
    KeyedStore store = table.store();
    long[] keys = other.keyWords();
    touched += store.lookAhead(keys, some, count, hashes, blocks);
    for (int i = 0; i < count; i++) {
      int key = some[i];
      int where =
          other.isLongKey(key)
              ? KeyedStore.NONE
              : store.lookup(hashes[i], keys, key * words, at, block);
      found[key] = where != KeyedStore.NONE;
      if (found[key]) {
        keep(key);
        other.note(key, where);
      }
    }
  }

  @Override
  int first(JoinSide other, int i, byte[] bytes, int row) {
    int key = other.keyNumber(i);
    if (other.isLongKey(key)) {
      findLong(other.keyBytes(i, bytes, row), key);
    }
    return found[key] ? key : JoinIndex.NONE;
  }

  /** A long key is known to each store by a number of its own. */
  private void findLong(byte[] keyRow, int key) {
    KeyedStore store = table.store();
    long[] wanted = new long[words];
    long at = version == NOW ? store.newest() : version;
    found[key] =
        table.keys().encodeKey(keyRow, 0, wanted)
            && store.lookup(store.hashOf(wanted, 0), wanted, at, block) != KeyedStore.NONE;
    keep(key);
    refuseIfGone();
  }

  @Override
  int next(int number) {
    return JoinIndex.NONE; // a key has one row
  }

  @Override
  long weight(int number) {
    return 1;
  }

  @Override
  void write(int number, RowWriter out, int firstColumn) {
    try {
      table.rows().write(rows, number * block.length, picked, out, firstColumn);
    } catch (IndexOutOfBoundsException e) {
      refuseIfGone(); // the bytes may have been used again
      throw e;
    }
    refuseIfGone();
  }

  private void refuseIfGone() {
    if (version != NOW) {
      BlockReader.refuseIfGone(table.store(), version);
    }
  }

  @Override
  void columns(int number, int[] which, ColumnDelta into, int at, int firstColumn) {
    table.rows().columns(rows, number * block.length, picked, which, into, at, firstColumn);
    refuseIfGone();
  }

  // ---- changes of the table: it has them already

  @Override
  void rowsAhead(Page delta, int from, int count) {}

  @Override
  boolean canReplace(int i, byte[] bytes, int row, int newRow) {
    return true;
  }

  @Override
  void add(int i, byte[] bytes, int row, long weight, long matches) {}

  @Override
  void replace(int i, byte[] bytes, int row, int newRow, long matches) {}

  @Override
  void settle() {}

  // ---- nothing is kept

  @Override
  void lookAhead(int[] numbers, int count) {}

  @Override
  long met(int number) {
    throw new IllegalStateException("rows of a table do not know what they meet");
  }

  @Override
  long meet(int number, long more) {
    throw new IllegalStateException("rows of a table do not know what they meet");
  }

  @Override
  boolean isThere(int number) {
    return false;
  }

  @Override
  int limit() {
    return 0;
  }

  @Override
  void join(Versions graph) {}

  @Override
  void close() {}

  @Override
  Durable durable() {
    return null;
  }

  @Override
  long heapBytes() {
    return 0;
  }

  @Override
  long size() {
    return 0;
  }
}
