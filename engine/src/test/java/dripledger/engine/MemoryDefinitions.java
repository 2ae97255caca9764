package dripledger.engine;

import dripledger.engine.catalog.DefinitionStore;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.List;

/** Definitions that last as long as the test. */
final class MemoryDefinitions implements DefinitionStore {
  private final List<StoredDefinition> stored = new ArrayList<>();
  private long lastId;
  private boolean refusing;
  private long epochs;

  @Override
  public synchronized List<StoredDefinition> load() {
    return new ArrayList<>(stored);
  }

  @Override
  public synchronized List<Past> history() {
    return stored.stream()
        .map(d -> new Past(d.name(), d.kind(), d.sql(), LocalDateTime.MIN, null))
        .toList();
  }

  /** Whether nothing can be stored. */
  synchronized void refuse(boolean value) {
    refusing = value;
  }

  @Override
  public synchronized long nextId() {
    return ++lastId;
  }

  @Override
  public synchronized void apply(List<StoredDefinition> added, List<Long> dropped) {
    if (refusing) {
      throw new IllegalStateException("not now");
    }
    stored.removeIf(d -> dropped.contains(d.id()) || dropped.contains(d.alters()));
    stored.addAll(added);
  }

  @Override
  public synchronized long reserveEpochs(long count) {
    long first = epochs + 1;
    epochs += count;
    return first;
  }

  @Override
  public synchronized void returnEpochs(long next) {
    epochs = next - 1;
  }
}
