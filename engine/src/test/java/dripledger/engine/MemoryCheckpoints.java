package dripledger.engine;

import dripledger.engine.checkpoint.CheckpointStore;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Reject;
import dripledger.engine.source.RejectStore;
import dripledger.engine.state.StateChunks;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.function.Consumer;

/** Checkpoints and rejects that last as long as the test; every second part is merged. */
final class MemoryCheckpoints implements CheckpointStore, RejectStore {
  private record PartKey(long node, int part) {}

  private Saved latest;
  private Map<PartKey, List<byte[]>> chunks = new HashMap<>();
  private final Map<Long, Reject> rejects = new TreeMap<>();
  private long lastReject;
  private boolean refusing;
  long bytesWritten;

  /** From now on every write fails, as if the process were gone. */
  synchronized void refuse(boolean value) {
    refusing = value;
  }

  /** Makes all chunks of a form no release has. */
  synchronized void spoil() {
    chunks.values().forEach(list -> list.forEach(chunk -> chunk[1] = 99));
  }

  /** Turns a bit in the middle of every chunk. */
  synchronized void damage() {
    chunks.values().forEach(list -> list.forEach(chunk -> chunk[chunk.length / 2 + 3] ^= 4));
  }

  @Override
  public synchronized Saved latest() {
    return latest;
  }

  @Override
  public synchronized void read(long nodeId, int part, Consumer<byte[]> sink) {
    List<byte[]> found = chunks.getOrDefault(new PartKey(nodeId, part), List.of());
    if ((nodeId + part) % 2 == 0) {
      long bytes = found.stream().mapToLong(chunk -> chunk.length).sum();
      StateChunks.merge(found::forEach, bytes, bytes / 3 + 1, true, sink::accept);
    } else {
      found.forEach(sink);
    }
  }

  @Override
  public synchronized Written write(
      long epoch, long sequence, InputProgress settled, Consumer<Writer> content) {
    if (refusing) {
      throw new IllegalStateException("not now");
    }
    Map<PartKey, List<byte[]>> copy = new HashMap<>();
    chunks.forEach((key, list) -> copy.put(key, new ArrayList<>(list)));
    Map<Long, SavedNode> nodes = new HashMap<>();
    long[] bytes = new long[1];
    content.accept(
        new Writer() {
          @Override
          public void node(SavedNode node) {
            nodes.put(node.id(), node);
          }

          @Override
          public void forget(long nodeId) {
            copy.keySet().removeIf(k -> k.node == nodeId);
          }

          @Override
          public void chunk(long nodeId, int part, byte[] chunk) {
            copy.computeIfAbsent(new PartKey(nodeId, part), k -> new ArrayList<>()).add(chunk);
            bytes[0] += chunk.length;
          }
        });
    settled.rejects().forEach(r -> rejects.put(++lastReject, r));
    settled.replayed().forEach(rejects::remove);
    chunks = copy;
    latest = new Saved(epoch, sequence, Map.copyOf(settled.positions()), nodes);
    bytesWritten += bytes[0];
    return new Written(bytes[0], bytes[0], 0);
  }

  @Override
  public boolean tidy() {
    return false;
  }

  @Override
  public synchronized void scan(Consumer<Stored> sink) {
    rejects.forEach((id, reject) -> sink.accept(new Stored(id, reject)));
  }

  @Override
  public synchronized List<Stored> find(long objectId, List<Long> ids, int limit) {
    return rejects.entrySet().stream()
        .filter(e -> e.getValue().objectId() == objectId)
        .filter(e -> ids.isEmpty() || ids.contains(e.getKey()))
        .limit(limit)
        .map(e -> new Stored(e.getKey(), e.getValue()))
        .toList();
  }
}
