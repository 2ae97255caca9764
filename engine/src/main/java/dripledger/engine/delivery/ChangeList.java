package dripledger.engine.delivery;

import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.source.Outgoing;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/**
 * Makes of a delta what is to be carried: rows that came and went again are nothing, and those of
 * one key are one change. In the order in which the delta names them first. One thread.
 */
final class ChangeList {
  private final Sink.Rows rows;
  private final RowLayout layout;
  private final int[] key; // or null: every row is by itself
  private final RowWriter keyWriter;

  ChangeList(Sink sink) {
    rows = sink.rows();
    layout = new RowLayout(sink.schema());
    key = rows == Sink.Rows.APPEND ? null : sink.key();
    keyWriter = key == null ? null : new RowWriter(new RowLayout(sink.schema().project(key)), 256);
  }

  /** Bytes as a key: of a row, or of its key. */
  private static final class Key {
    final byte[] bytes;
    private final int hash;

    Key(byte[] source, int from, int to) {
      bytes = Arrays.copyOfRange(source, from, to);
      long mixed = Bytes.hash(bytes, 0, bytes.length);
      hash = (int) (mixed ^ mixed >>> Integer.SIZE);
    }

    @Override
    public boolean equals(Object other) {
      return other instanceof Key key && Arrays.equals(bytes, key.bytes);
    }

    @Override
    public int hashCode() {
      return hash;
    }
  }

  /** The rows of one key: how often each is there more than before. Nearly always one or two. */
  private static final class Net {
    final List<Key> rows = new ArrayList<>(2);
    final List<Long> weights = new ArrayList<>(2);

    void add(Key row, long weight) {
      int i = rows.indexOf(row);
      if (i < 0) {
        rows.add(row);
        weights.add(weight);
      } else {
        weights.set(i, weights.get(i) + weight);
      }
    }
  }

  /** The changes that an epoch makes. */
  List<Outgoing.Change> of(Outbox.Waiting waiting) {
    List<Outgoing.Change> changes = of(waiting.rows());
    Page expired = waiting.expired();
    for (int i = 0; i < expired.size(); i++) {
      Object[] row = BoxedRows.read(layout, expired.bytes(), expired.start(i));
      for (long times = -expired.weight(i); times > 0; times--) {
        changes.add(new Outgoing.Change(row, null, true));
      }
    }
    return changes;
  }

  private List<Outgoing.Change> of(Page delta) {
    List<Outgoing.Change> changes = new ArrayList<>(delta.size());
    if (onlyCome(delta)) { // that no two have one key is proven of the query
      for (int i = 0; i < delta.size(); i++) {
        for (long times = delta.weight(i); times > 0; times--) {
          Object[] row = BoxedRows.read(layout, delta.bytes(), delta.start(i));
          changes.add(new Outgoing.Change(null, row));
        }
      }
      return changes;
    }
    Map<Key, Net> nets = new LinkedHashMap<>(2 * delta.size());
    for (int i = 0; i < delta.size(); i++) {
      Key row = new Key(delta.bytes(), delta.start(i), delta.end(i));
      Key own = key == null ? row : keyOf(delta, i);
      nets.computeIfAbsent(own, k -> new Net()).add(row, delta.weight(i));
    }
    nets.values().forEach(net -> add(net, changes));
    return changes;
  }

  private static boolean onlyCome(Page delta) {
    for (int i = 0; i < delta.size(); i++) {
      if (delta.weight(i) < 0) {
        return false;
      }
    }
    return true;
  }

  private Key keyOf(Page delta, int i) {
    keyWriter.truncate(0);
    keyWriter.begin();
    for (int c = 0; c < key.length; c++) {
      keyWriter.copy(c, layout, delta.bytes(), delta.start(i), key[c]);
    }
    int length = keyWriter.finish();
    int start = keyWriter.start();
    return new Key(keyWriter.bytes(), start, start + length);
  }

  private void add(Net net, List<Outgoing.Change> changes) {
    List<Object[]> gone = new ArrayList<>(1);
    List<Object[]> come = new ArrayList<>(1);
    for (int i = 0; i < net.rows.size(); i++) {
      long weight = net.weights.get(i);
      for (long n = Math.abs(weight); n > 0; n--) {
        (weight < 0 ? gone : come).add(BoxedRows.read(layout, net.rows.get(i).bytes, 0));
      }
    }
    if (rows == Sink.Rows.APPEND && !gone.isEmpty()) {
      throw new EngineException(
          Code.FAILED, "a row that was delivered has been taken out of the query's answer");
    }
    if (rows == Sink.Rows.UPSERT && come.size() > 1) {
      throw new EngineException(
          Code.FAILED, "two rows have one key: " + Arrays.toString(come.get(1)));
    }
    int both = key == null ? 0 : Math.min(gone.size(), come.size());
    for (int i = 0; i < Math.max(gone.size(), come.size()); i++) {
      if (i < both) {
        changes.add(new Outgoing.Change(gone.get(i), come.get(i)));
        continue;
      }
      if (i < gone.size()) {
        changes.add(new Outgoing.Change(gone.get(i), null));
      }
      if (i < come.size()) {
        changes.add(new Outgoing.Change(null, come.get(i)));
      }
    }
  }
}
