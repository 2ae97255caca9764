package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.store.KeyedStore;
import java.util.Arrays;
import java.util.BitSet;
import java.util.HashMap;
import java.util.Map;

/**
 * A side that is kept by a key and joined on something else. The index, of the join's own, says in
 * which blocks the rows are that have the same of that. It is made of the rows that are there when
 * it is first needed, and then told what changes.
 *
 * <p>A block has one place in the index. A row that comes before the one has gone in whose place it
 * is waits for that.
 */
final class IndexedSide extends ElsewhereSide {
  private static final int NOTHING = -1;

  private final BitSet linked = new BitSet(); // blocks that are in the index
  private final Map<Integer, byte[]> waiting = new HashMap<>(); // rows by the block of their key
  private final RowWriter own; // the columns that are read of a row
  private KeyedStore indexed; // whose blocks are in the index; null: those of none
  private int[] key; // for each column of the store's key which of the relation's it is
  private RowWriter keyRow;
  private long[] keyWords = new long[0];
  private Page made = new Page(layout, 1);
  private int loaded = NOTHING; // the block whose row is at hand

  @SuppressWarnings("UnusedVariable")
  private long touched; // what was read only to have it near

  IndexedSide(Input input, PlanNode plan, boolean before) {
    super(input, plan, before);
    own = new RowWriter(layout, 64);
  }

  @Override
  void table(KeyedRows kept, long at) {
    super.table(kept, at);
    loaded = NOTHING;
    if (kept == null) {
      return;
    }
    key = kept.finish().hashColumns();
    keyRow = new RowWriter(kept.stored().keys().layout(), 64);
    keyWords = new long[store.keyWords()];
    made = asTheyAre == null ? new Page(kept.finish().layout(), 1) : made;
    if (isLive() && at == NOW) {
      index(); // between epochs
    }
  }

  /** Makes the index of all rows that are there, unless it is made. */
  private void index() {
    if (indexed == store) {
      return;
    }
    if (indexed != null) {
      throw new IllegalStateException("the rows that are looked up are others now");
    }
    int limit = store.blockLimit();
    long version = isLive() ? store.newest() : at();
    for (int number = 0; number < limit; number++) {
      if (load(number, version)) {
        own.truncate(0);
        own.begin();
        write(number, own, 0);
        own.finish();
        link(number, own.bytes(), own.start());
      }
    }
    refuseIfGone();
    indexed = store;
    loaded = NOTHING;
  }

  private void link(int number, byte[] bytes, int row) {
    if (canMatch(bytes, row)) {
      putRestored(bytes, row, number);
    }
    linked.set(number);
  }

  private void unlink(int number, byte[] bytes, int row) {
    if (canMatch(bytes, row)) {
      dropEnded(bytes, row, number);
    }
    linked.clear(number);
  }

  @Override
  void ready() {
    index();
  }

  // ---- what changes

  @Override
  void changed(Page delta) {
    loaded = NOTHING;
    if (indexed != store) {
      throw new IllegalStateException("the index is told of changes before it is made");
    }
    for (int i = 0; i < delta.size(); i++) {
      long weight = delta.weight(i);
      if (weight == -1 && i + 1 < delta.size() && delta.weight(i + 1) == 1 && isSame(delta, i)) {
        i++;
      } else if (weight != 0) {
        changed(delta, i, weight);
      }
    }
  }

  /** Whether a row and the next have the same place in the index. */
  private boolean isSame(Page delta, int i) {
    int row = delta.start(i);
    int next = delta.start(i + 1);
    boolean same = waiting.isEmpty();
    for (int c = 0; c < key.length && same; c++) {
      same = isSame(delta.layout(), delta.bytes(), row, next, key[c]);
    }
    for (int c = 0; c < joinedOn().length && same; c++) {
      same = isSame(delta.layout(), delta.bytes(), row, next, picked[joinedOn()[c]]);
    }
    return same;
  }

  private static boolean isSame(RowLayout layout, byte[] bytes, int row, int other, int column) {
    boolean isNull = layout.isNull(bytes, row, column);
    if (isNull || layout.isNull(bytes, other, column)) {
      return isNull == layout.isNull(bytes, other, column);
    }
    if (!layout.isVariable(column)) {
      return layout.slot(bytes, row, column) == layout.slot(bytes, other, column);
    }
    int length = layout.variableLength(bytes, row, column);
    return length == layout.variableLength(bytes, other, column)
        && Bytes.equal(
            bytes,
            layout.variableOffset(bytes, row, column),
            bytes,
            layout.variableOffset(bytes, other, column),
            length);
  }

  private void changed(Page delta, int i, long weight) {
    int number = block(delta, delta.start(i));
    own.truncate(0);
    own.begin();
    copy(delta, i, own, 0);
    own.finish();
    byte[] before = waiting.get(number);
    if (weight > 0) {
      if (!linked.get(number)) {
        link(number, own.bytes(), own.start());
      } else if (waiting.put(number, own.bytes().clone()) != null) {
        throw new IllegalStateException("a key has come three times");
      }
    } else if (before != null && hasSameKey(before, own.bytes())) {
      waiting.remove(number);
    } else if (linked.get(number)) {
      unlink(number, own.bytes(), own.start());
      if (before != null) {
        waiting.remove(number);
        link(number, before, 0);
      }
    } else {
      throw new IllegalStateException("a row goes that is not there");
    }
  }

  private boolean hasSameKey(byte[] row, byte[] other) {
    return Arrays.equals(keyOf(row, 0), keyOf(other, 0)); // NULL is a place like any other
  }

  /** The block of a row's key, which may have gone in the meantime. */
  private int block(Page delta, int row) {
    keyRow.truncate(0);
    keyRow.begin();
    for (int c = 0; c < key.length; c++) {
      keyRow.copy(c, delta.layout(), delta.bytes(), row, key[c]);
    }
    keyRow.finish();
    int number =
        table.stored().keys().encodeKey(keyRow.bytes(), keyRow.start(), keyWords)
            ? store.whereIs(store.hashOf(keyWords, 0), keyWords, 0)
            : KeyedStore.NONE;
    if (number == KeyedStore.NONE) {
      throw new IllegalStateException("a row has changed that is nowhere");
    }
    return number;
  }

  @Override
  void settle() {
    loaded = NOTHING;
    if (table != null) {
      index();
    }
    if (!waiting.isEmpty()) {
      throw new IllegalStateException("a key is there twice");
    }
  }

  // ---- what the other side asks for

  @Override
  void aheadOf(JoinSide other) {
    loaded = NOTHING;
    super.aheadOf(other);
  }

  @Override
  void lookAhead(int[] numbers, int count) {
    touched = store.lookAhead(numbers, count);
  }

  /** Has a block's row at hand; answers whether there is one. */
  private boolean load(int number, long version) {
    if (loaded == number) {
      return true;
    }
    loaded = NOTHING;
    if (!store.read(number, version, block)) {
      return false;
    }
    if (asTheyAre == null) {
      made.clear();
      if (!make(made.begin())) {
        made.abort();
        return false;
      }
      made.commit(1);
    }
    loaded = number;
    return true;
  }

  private void have(int number) {
    if (!load(number, at())) {
      refuseIfGone();
      throw new IllegalStateException("a row is in the index that is not there");
    }
  }

  @Override
  void write(int number, RowWriter out, int firstColumn) {
    have(number);
    try {
      if (asTheyAre != null) {
        asTheyAre.write(block, 0, picked, out, firstColumn);
      } else {
        copy(made, 0, out, firstColumn);
      }
    } catch (IndexOutOfBoundsException e) {
      refuseIfGone(); // the bytes may have been used again
      throw e;
    }
    refuseIfGone();
  }

  @Override
  void columns(int number, int[] which, ColumnDelta into, int at, int firstColumn) {
    have(number);
    if (asTheyAre != null) {
      asTheyAre.columns(block, 0, picked, which, into, at, firstColumn);
    } else {
      copy(made, 0, which, into, at, firstColumn);
    }
    refuseIfGone();
  }

  @Override
  long heapBytes() {
    return linked.size() / 8;
  }
}
