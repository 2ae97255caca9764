package dripledger.engine.catalog;

import java.util.List;

/** Where definitions outlive the process. Called by one thread at a time; may block. */
public interface DefinitionStore {
  /**
   * A definition as stored.
   *
   * @param sql the CREATE statement; what it says is worked out again when loaded
   */
  record StoredDefinition(long id, String name, String kind, String sql) {}

  /** All definitions in force, in the order they were made. */
  List<StoredDefinition> load();

  /** A number never given before. */
  long nextId();

  /**
   * Makes and drops definitions as one durable step.
   *
   * @param added to be stored
   * @param dropped to be forgotten, with everything kept for them
   */
  void apply(List<StoredDefinition> added, List<Long> dropped);

  /** Takes {@code count} epoch numbers that no earlier process published; answers the first. */
  long reserveEpochs(long count);

  /** Gives back what was reserved and not used: the next process may start at {@code next}. */
  void returnEpochs(long next);
}
