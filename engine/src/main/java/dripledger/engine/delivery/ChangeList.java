package dripledger.engine.delivery;

import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.source.Outgoing;
import java.nio.ByteBuffer;
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

  /** The rows of one key: how often each is there more than before. */
  private static final class Net {
    final Map<ByteBuffer, Long> rows = new LinkedHashMap<>(2);

    void add(ByteBuffer row, long weight) {
      if (rows.merge(row, weight, Long::sum) == 0) {
        rows.remove(row);
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
    Map<ByteBuffer, Net> nets = new LinkedHashMap<>();
    for (int i = 0; i < delta.size(); i++) {
      ByteBuffer row =
          ByteBuffer.wrap(Arrays.copyOfRange(delta.bytes(), delta.start(i), delta.end(i)));
      ByteBuffer own = key == null ? row : keyOf(delta, i);
      nets.computeIfAbsent(own, k -> new Net()).add(row, delta.weight(i));
    }
    List<Outgoing.Change> changes = new ArrayList<>(nets.size());
    nets.values().forEach(net -> add(net, changes));
    return changes;
  }

  private ByteBuffer keyOf(Page delta, int i) {
    keyWriter.truncate(0);
    keyWriter.begin();
    for (int c = 0; c < key.length; c++) {
      keyWriter.copy(c, layout, delta.bytes(), delta.start(i), key[c]);
    }
    int length = keyWriter.finish();
    int start = keyWriter.start();
    return ByteBuffer.wrap(Arrays.copyOfRange(keyWriter.bytes(), start, start + length));
  }

  private void add(Net net, List<Outgoing.Change> changes) {
    List<Object[]> gone = new ArrayList<>(1);
    List<Object[]> come = new ArrayList<>(1);
    net.rows.forEach(
        (row, weight) -> {
          for (long n = Math.abs(weight); n > 0; n--) {
            (weight < 0 ? gone : come).add(BoxedRows.read(layout, row.array(), 0));
          }
        });
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
