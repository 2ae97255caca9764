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
 * A side that is joined on the key by which it is kept, as a table or the rows of a view: rows are
 * looked up where they are, and nothing is kept here. What changes there must come before what the
 * other side changes, and be there by then: d(L ⋈ T) = L ⋈ dT + dL ⋈ (T + dT).
 */
final class TableSide extends JoinSide {
  /** The version of a table that is written: what it is now, while nobody changes it. */
  static final long NOW = -1;

  private final int[] picked; // which column of the table each one is
  private KeyedRows table;
  private KeyedStore store;
  private BlockRows asTheyAre; // how rows are read of their blocks; null: they are made
  private BlockReader maker; // of rows that are made
  private Page made = new Page(layout, 1);
  private long version;

  // Of the other side's batch at hand, by its keys: their rows, if they are there.
  private final long[] hashes = new long[AHEAD];
  private final int[] blocks = new int[AHEAD];
  private final boolean[] found = new boolean[AHEAD];
  private final int[] which = new int[AHEAD]; // keys whose row is not where it was seen
  private long[] rows = new long[0]; // their blocks' words, one after the other
  private final int[] places = new int[AHEAD]; // where their rows were made
  private long[] block = new long[0];
  private boolean sameWords; // whether a key has the same words on the other side
  private boolean byRow; // whether each key is looked up by itself, in another form
  private long[] converted = new long[0];
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
   * @param kept the rows; null while they are not known
   * @param at a version that is pinned, or {@link #NOW}
   */
  void table(KeyedRows kept, long at) {
    table = kept;
    version = at;
    if (kept == null) {
      return;
    }
    store = kept.stored().store();
    words = store.keyWords();
    block = new long[words + store.stateWords()];
    asTheyAre = kept.asTheyAre();
    rows = new long[asTheyAre == null ? 0 : AHEAD * block.length];
    sameWords = kept.hasWordsOf(keyForm());
    byRow = !sameWords && keyForm().isVariable();
    converted = new long[sameWords || byRow ? 0 : AHEAD * words];
    if (asTheyAre == null) {
      made = new Page(kept.finish().layout(), AHEAD);
      maker = new BlockReader(kept.stored(), kept.finish(), at);
    }
  }

  // ---- the other side's batch

  @Override
  void aheadOf(JoinSide other) {
    made.clear();
    if (byRow) {
      return;
    }
    long at = version == NOW ? store.newest() : version;
    int count = other.keyCount();
    long[] keys = other.keyWords();
    if (!sameWords) {
      table.convert(keyForm(), keys, count, converted);
      keys = converted;
    }
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
    lookUp(other, keys, unknown, at);
    refuseIfGone();
    if (asTheyAre != null) {
      for (int i = 0; i < count; i++) {
        if (found[i]) {
          touched += asTheyAre.touch(rows, i * block.length);
        }
      }
    }
  }

  /** Keeps the words of the block that was found, or the row that is made of them, if any is. */
  private void keep(int key) {
    if (asTheyAre != null) {
      System.arraycopy(block, 0, rows, key * block.length, block.length);
      return;
    }
    System.arraycopy(block, 0, maker.words, 0, block.length);
    found[key] = maker.make(made.begin());
    if (found[key]) {
      places[key] = made.size();
      made.commit(1);
    } else {
      made.abort();
    }
  }

  /** Looks up some of the batch's keys. */
  private void lookUp(JoinSide other, long[] keys, int count, long at) {
    touched += store.lookAhead(keys, which, count, hashes, blocks);
    for (int i = 0; i < count; i++) {
      int key = which[i];
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
    if (byRow || other.isLongKey(key)) {
      findByItself(other.keyBytes(i, bytes, row), key);
    }
    return found[key] ? key : JoinIndex.NONE;
  }

  /** A long key is known to each store by a number of its own. */
  private void findByItself(byte[] keyRow, int key) {
    long[] wanted = new long[words];
    long at = version == NOW ? store.newest() : version;
    found[key] =
        table.encode(keyForm().layout(), keyRow, wanted)
            && store.lookup(store.hashOf(wanted, 0), wanted, at, block) != KeyedStore.NONE;
    if (found[key]) {
      keep(key);
    }
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
      if (asTheyAre != null) {
        asTheyAre.write(rows, number * block.length, picked, out, firstColumn);
      } else {
        for (int c = 0; c < picked.length; c++) {
          int row = made.start(places[number]);
          out.copy(firstColumn + c, made.layout(), made.bytes(), row, picked[c]);
        }
      }
    } catch (IndexOutOfBoundsException e) {
      refuseIfGone(); // the bytes may have been used again
      throw e;
    }
    refuseIfGone();
  }

  private void refuseIfGone() {
    if (version != NOW) {
      BlockReader.refuseIfGone(store, version);
    }
  }

  @Override
  void columns(int number, int[] which, ColumnDelta into, int at, int firstColumn) {
    if (asTheyAre != null) {
      asTheyAre.columns(rows, number * block.length, picked, which, into, at, firstColumn);
    } else {
      int row = made.start(places[number]);
      for (int c : which) {
        into.columns[firstColumn + c][at] = made.layout().slot(made.bytes(), row, picked[c]);
        if (made.layout().isNull(made.bytes(), row, picked[c])) {
          into.nulls[at] |= 1L << firstColumn + c;
        }
      }
    }
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
