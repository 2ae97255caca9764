package dripledger.engine;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.PartitionSink;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.function.LongFunction;

/** A ledger that lasts as long as the process: for trying things out, for tests and benchmarks. */
public final class MemoryLedger implements Ledger {
  private final List<List<Entry>> appends = new ArrayList<>();
  private final Map<Long, Long> positions = new HashMap<>();
  private final Map<Long, SourcePosition> inputs = new HashMap<>();
  private final Map<String, Long> ids = new HashMap<>();
  private final Object order = new Object();
  private Receiver receiver;

  @Override
  public synchronized void receiver(Receiver newReceiver) {
    receiver = newReceiver;
  }

  @Override
  public CompletableFuture<Receipt> append(List<Entry> entries, InputProgress settled, String id) {
    // The receiver may block; readers must not wait for it.
    synchronized (order) {
      long[] ends;
      long sequence;
      synchronized (this) {
        appends.add(List.copyOf(entries));
        inputs.putAll(settled.positions());
        sequence = appends.size();
        if (id != null) {
          ids.put(id, sequence);
        }
        ends =
            entries.stream()
                .mapToLong(
                    e -> positions.merge(e.relationId(), (long) e.changes().size(), Long::sum))
                .toArray();
      }
      receiver.committed(sequence, entries, settled.positions());
      return CompletableFuture.completedFuture(new Receipt(sequence, ends));
    }
  }

  /** Lets go of what was appended: it cannot be read again. */
  synchronized void forget() {
    appends.replaceAll(entries -> List.of());
  }

  @Override
  public synchronized long made(String id) {
    return ids.getOrDefault(id, -1L);
  }

  @Override
  public synchronized Map<Long, SourcePosition> positions() {
    return Map.copyOf(inputs);
  }

  @Override
  public synchronized long lastSequence() {
    return appends.size();
  }

  @Override
  public void widen(long relationId, RowLayout layout, Widener widener) {}

  @Override
  public long forgotten(long relationId) {
    return 0;
  }

  @Override
  public synchronized long position(long relationId) {
    return positions.getOrDefault(relationId, 0L);
  }

  @Override
  public void read(long relationId, Page template, long after, long through, PartitionSink sink) {
    List<List<Entry>> range;
    synchronized (this) {
      range = new ArrayList<>(appends.subList((int) after, (int) through));
    }
    for (List<Entry> entries : range) {
      for (Entry e : entries) {
        if (e.relationId() == relationId) {
          sink.page(e.changes(), e.partition());
        }
      }
    }
  }

  @Override
  public synchronized void replay(long after, LongFunction<Page> template, Receiver sink) {
    for (int i = (int) after; i < appends.size(); i++) {
      List<Entry> known =
          appends.get(i).stream().filter(e -> template.apply(e.relationId()) != null).toList();
      sink.committed(i + 1L, known, Map.of());
    }
  }

  @Override
  public void close() {}
}
