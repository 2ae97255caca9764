package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;

/**
 * The orders of groups: by columns of their keys, which are told when a group comes or goes, and by
 * columns of the rows that relations make of them, which are told of every change of a row. Any
 * thread may ask for one; the writer tells them.
 */
final class GroupOrders {
  private final RowLayout groups;
  private final GroupKeys keys;
  private final Rows rows;
  private final OrderedIndexes byKey;
  private final Map<Finish, ByRow> byRow = new ConcurrentHashMap<>();

  /** Sets the columns of a group's row that was begun, from its key and a state. */
  @FunctionalInterface
  interface Rows {
    void row(long[] keyPage, int key, long[] words, int at, RowWriter writer);
  }

  GroupOrders(RowLayout groups, GroupKeys keys, Rows rows) {
    this.groups = groups;
    this.keys = keys;
    this.rows = rows;
    byKey = new OrderedIndexes(keys.layout());
  }

  /** Those by columns of the key. */
  OrderedIndexes byKey() {
    return byKey;
  }

  /** Those by columns of a relation's rows, until {@link #forget}. */
  OrderedIndexes byRow(Finish finish) {
    return byRow.computeIfAbsent(finish, f -> new ByRow(f, groups)).indexes;
  }

  void forget(Finish finish) {
    byRow.remove(finish);
  }

  // ---- the writer

  /** Whether it has to be told of every change. */
  boolean needChanges() {
    return byKey.needChanges() || needRows();
  }

  private boolean needRows() {
    if (!byRow.isEmpty()) {
      for (ByRow each : byRow.values()) {
        if (each.indexes.needChanges()) {
          return true;
        }
      }
    }
    return false;
  }

  /** A group has come (weight 1) or gone (−1). */
  void group(long[] page, int key, int block, int weight) {
    if (byKey.needChanges()) {
      byKey.changed(keys.row(page, key), 0, block, weight);
    }
  }

  /** A group has got a row (weight 1), or has no longer the row of a state (−1). */
  void row(long[] page, int key, long[] words, int at, int block, int weight) {
    if (byRow.isEmpty()) {
      return;
    }
    for (ByRow each : byRow.values()) {
      if (each.indexes.needChanges() && each.make(rows, page, key, words, at)) {
        each.indexes.changed(each.own.bytes(), 0, block, weight);
      }
    }
  }

  long heapBytes() {
    long bytes = byKey.heapBytes();
    for (ByRow each : byRow.values()) {
      bytes += each.indexes.heapBytes();
    }
    return bytes;
  }

  /** Of one relation. */
  private static final class ByRow {
    final Finish finish;
    final OrderedIndexes indexes;
    final Page between; // or null if the rows stay as they are
    final RowWriter own;

    ByRow(Finish finish, RowLayout groups) {
      this.finish = finish;
      indexes = new OrderedIndexes(finish.layout());
      between = finish.program() == null ? null : new Page(groups, 1);
      own = new RowWriter(finish.layout(), 256);
    }

    /** Makes a row; answers whether there is one. */
    boolean make(Rows rows, long[] page, int key, long[] words, int at) {
      own.truncate(0);
      own.begin();
      if (between == null) {
        rows.row(page, key, words, at, own);
      } else {
        between.clear();
        rows.row(page, key, words, at, between.begin());
        between.commit(1);
        if (!passes()) {
          return false;
        }
      }
      own.finish();
      return true;
    }

    private boolean passes() {
      try {
        return finish.program().run(between.bytes(), between.start(0), own);
      } catch (RuntimeException e) {
        return false; // it is among the rejects
      }
    }
  }
}
