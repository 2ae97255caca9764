package dripledger.engine.catalog;

import java.time.LocalDateTime;
import java.util.List;

/** Where definitions outlive the process. Called by one thread at a time; may block. */
public interface DefinitionStore {
  /**
   * A statement as stored: a CREATE, or an ALTER of something created before it.
   *
   * @param id the number of what was created; of an ALTER, one of its own
   * @param name the name of what it makes or alters
   * @param alters the number of what an ALTER alters, or 0
   * @param sql what it says is worked out again when loaded
   * @param begin where reading begins, for what has a source of its own; or null
   */
  record StoredDefinition(
      long id, String name, String kind, long alters, String sql, SourcePosition begin) {}

  /** All statements in force, in the order they were made. */
  List<StoredDefinition> load();

  /**
   * A statement that defined something once.
   *
   * @param kind of what it made, or {@code alter}
   * @param definedAt when, in UTC
   * @param droppedAt when what it made was dropped, in UTC; null if it is there
   */
  record Past(
      String name, String kind, String sql, LocalDateTime definedAt, LocalDateTime droppedAt) {}

  /** Every statement that ever defined something, oldest first. */
  List<Past> history();

  /** A number never given before. */
  long nextId();

  /**
   * Makes and drops definitions as one durable step.
   *
   * @param added to be stored
   * @param dropped objects to be forgotten, with their ALTERs and everything kept for them
   */
  void apply(List<StoredDefinition> added, List<Long> dropped);

  /** Takes {@code count} epoch numbers that no earlier process published; answers the first. */
  long reserveEpochs(long count);

  /** Gives back what was reserved and not used: the next process may start at {@code next}. */
  void returnEpochs(long next);
}
