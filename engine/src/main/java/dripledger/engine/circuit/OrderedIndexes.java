package dripledger.engine.circuit;

import dripledger.engine.row.RowLayout;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;

/** The orders that somebody has asked a relation's rows in. Any thread may ask. */
final class OrderedIndexes {
  private final RowLayout keyLayout;
  private final Map<List<Integer>, OrderedIndex> byColumns = new ConcurrentHashMap<>();
  private volatile OrderedIndex[] all = {};

  /**
   * @param keyLayout of the rows whose columns are ordered by
   */
  OrderedIndexes(RowLayout keyLayout) {
    this.keyLayout = keyLayout;
  }

  /** The index by these columns of the key; empty so far, if it is new. */
  OrderedIndex by(int[] columns) {
    return byColumns.computeIfAbsent(
        Arrays.stream(columns).boxed().toList(),
        key -> {
          OrderedIndex index = new OrderedIndex(keyLayout, columns);
          synchronized (this) {
            OrderedIndex[] more = Arrays.copyOf(all, all.length + 1);
            more[all.length] = index;
            all = more;
          }
          return index;
        });
  }

  /** Whether what is born and what dies has to be told. The writer's thread only. */
  boolean needChanges() {
    for (OrderedIndex index : all) {
      if (index.needsChanges()) {
        return true;
      }
    }
    return false;
  }

  /** A key has come (weight 1) or gone (−1). The writer's thread only. */
  void changed(byte[] bytes, int row, int block, int weight) {
    for (OrderedIndex index : all) {
      if (index.needsChanges()) {
        index.changed(bytes, row, block, weight);
      }
    }
  }

  long heapBytes() {
    long bytes = 0;
    for (OrderedIndex index : all) {
      bytes += index.heapBytes();
    }
    return bytes;
  }
}
