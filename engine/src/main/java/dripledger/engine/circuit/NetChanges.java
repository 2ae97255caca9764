package dripledger.engine.circuit;

import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.KeyedArena;
import dripledger.engine.store.IntList;

/** What many deltas come to, row by row. One thread. */
final class NetChanges {
  private static final int WEIGHT = 8; // bytes
  private final RowLayout layout;
  private KeyedArena weights = new KeyedArena(-1, WEIGHT);
  private IntList inOrder = new IntList(); // as the rows came first

  NetChanges(RowLayout layout) {
    this.layout = layout;
  }

  void add(Page delta) {
    for (int i = 0; i < delta.size(); i++) {
      int before = weights.size();
      int entry =
          weights.findOrInsert(delta.bytes(), delta.start(i), delta.end(i) - delta.start(i));
      if (weights.size() > before) {
        inOrder.grow(before);
        inOrder.set(before, entry);
      }
      byte[] chunk = weights.chunk(entry);
      int at = weights.valueAt(entry);
      Bytes.putLong(chunk, at, Bytes.getLong(chunk, at) + delta.weight(i));
    }
  }

  /** All of it, rows that go first, and forgets it. */
  Page take() {
    Page page = new Page(layout);
    give(page, true);
    give(page, false);
    weights = new KeyedArena(-1, WEIGHT);
    inOrder = new IntList();
    return page;
  }

  private void give(Page page, boolean going) {
    for (int i = 0; i < weights.size(); i++) {
      int entry = inOrder.get(i);
      byte[] chunk = weights.chunk(entry);
      long weight = Bytes.getLong(chunk, weights.valueAt(entry));
      if (weight != 0 && weight < 0 == going) {
        page.append(chunk, weights.keyAt(entry), weights.keyLength(entry), weight);
      }
    }
  }

  /** Heap held, in bytes. */
  long heapBytes() {
    return weights.heapBytes() + inOrder.heapBytes();
  }
}
