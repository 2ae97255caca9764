package dripledger.engine.circuit;

import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import java.util.Arrays;

/**
 * Rows of which each is found by its key where it is kept: those of a table, of a step, or of a
 * view, which may be made of those of a step one by one. Safe from any thread.
 */
public final class KeyedRows {
  private final StoredRows stored;
  private final Finish finish;
  private final int[] order; // for each column of the store's key which of the relation's it is
  private final boolean sameOrder;

  private KeyedRows(StoredRows stored, Finish finish) {
    this.stored = stored;
    this.finish = finish;
    int[] columns = finish.hashColumns();
    int[] key = finish.key();
    order = new int[columns.length];
    boolean same = true;
    for (int i = 0; i < order.length; i++) {
      int k = 0;
      while (key[k] != columns[i]) {
        k++;
      }
      order[i] = k;
      same &= k == i;
    }
    sameOrder = same;
  }

  /** How rows of a store are found by their key, or null if they are not. */
  static KeyedRows of(StoredRows stored, Finish finish) {
    boolean bag = stored instanceof KeptRows kept && kept.rows() == null;
    return stored == null || finish == null || bag || finish.hashColumns() == null
        ? null
        : new KeyedRows(stored, finish);
  }

  StoredRows stored() {
    return stored;
  }

  Finish finish() {
    return finish;
  }

  /** How rows are read of their blocks as they are, or null if they have to be made. */
  BlockRows asTheyAre() {
    return stored instanceof KeptRows kept ? kept.rows() : null;
  }

  /** Whether keys of a form have the words that the store has for them. */
  boolean hasWordsOf(GroupKeys keys) {
    return sameOrder && (keys.isVariable() || keys.nullWords() == stored.keys().nullWords());
  }

  /**
   * Makes of the words of keys, none of them NULL in any column, those that the store has for them.
   *
   * @param keys their form, of fixed size
   * @param words one after the other
   */
  void convert(GroupKeys keys, long[] words, int count, long[] into) {
    int nulls = stored.keys().nullWords();
    int step = nulls + order.length;
    Arrays.fill(into, 0, count * step, 0);
    for (int i = 0; i < count; i++) {
      int from = i * keys.words() + keys.nullWords();
      for (int c = 0; c < order.length; c++) {
        into[i * step + nulls + c] = words[from + order[c]];
      }
    }
  }

  /**
   * Writes the words of a key given as a row, its columns in the order of the relation's key.
   *
   * @return whether there can be such a key
   */
  boolean encode(RowLayout layout, byte[] keyRow, long[] into) {
    if (sameOrder) {
      return stored.keys().encodeKey(keyRow, 0, into);
    }
    RowWriter ordered = new RowWriter(stored.keys().layout(), 64);
    ordered.begin();
    for (int c = 0; c < order.length; c++) {
      ordered.copy(c, layout, keyRow, 0, order[c]);
    }
    ordered.finish();
    return stored.keys().encodeKey(ordered.bytes(), ordered.start(), into);
  }
}
