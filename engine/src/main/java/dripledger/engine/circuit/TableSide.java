package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowWriter;
import dripledger.engine.store.JoinIndex;
import dripledger.engine.store.KeyedStore;

/** A side that is joined on the key by which it is kept: each key of the other has one row. */
final class TableSide extends ElsewhereSide {
  private Page made = new Page(layout, 1);

  // Of the other side's batch at hand, by its keys: their rows, if they are there.
  private final long[] hashes = new long[AHEAD];
  private final int[] blocks = new int[AHEAD];
  private final boolean[] found = new boolean[AHEAD];
  private final int[] which = new int[AHEAD]; // keys whose row is not where it was seen
  private long[] rows = new long[0]; // their blocks' words, one after the other
  private final int[] places = new int[AHEAD]; // where their rows were made
  private boolean sameWords; // whether a key has the same words on the other side
  private boolean byRow; // whether each key is looked up by itself, in another form
  private long[] converted = new long[0];
  private int words; // of a key

  @SuppressWarnings("UnusedVariable")
  private long touched; // what was read only to have it near

  /**
   * @param input whose columns are in the order of the table's key
   */
  TableSide(Input input, PlanNode plan, boolean before) {
    super(input, plan, before);
  }

  @Override
  void table(KeyedRows kept, long at) {
    super.table(kept, at);
    if (kept == null) {
      return;
    }
    words = store.keyWords();
    rows = new long[asTheyAre == null ? 0 : AHEAD * block.length];
    sameWords = kept.hasWordsOf(keyForm());
    byRow = !sameWords && keyForm().isVariable();
    converted = new long[sameWords || byRow ? 0 : AHEAD * words];
    made = asTheyAre == null ? new Page(kept.finish().layout(), AHEAD) : made;
  }

  // ---- the other side's batch

  @Override
  void aheadOf(JoinSide other) {
    made.clear();
    if (byRow) {
      return;
    }
    long at = at();
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
    found[key] = make(made.begin());
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
    found[key] =
        table.encode(keyForm().layout(), keyRow, wanted)
            && store.lookup(store.hashOf(wanted, 0), wanted, at(), block) != KeyedStore.NONE;
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
  void write(int number, RowWriter out, int firstColumn) {
    try {
      if (asTheyAre != null) {
        asTheyAre.write(rows, number * block.length, picked, out, firstColumn);
      } else {
        copy(made, places[number], out, firstColumn);
      }
    } catch (IndexOutOfBoundsException e) {
      refuseIfGone(); // the bytes may have been used again
      throw e;
    }
    refuseIfGone();
  }

  @Override
  void columns(int number, int[] which, ColumnDelta into, int at, int firstColumn) {
    if (asTheyAre != null) {
      asTheyAre.columns(rows, number * block.length, picked, which, into, at, firstColumn);
    } else {
      copy(made, places[number], which, into, at, firstColumn);
    }
    refuseIfGone();
  }

  @Override
  void lookAhead(int[] numbers, int count) {}
}
