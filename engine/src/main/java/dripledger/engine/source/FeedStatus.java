package dripledger.engine.source;

import java.util.Map;

/**
 * How a feed does.
 *
 * @param state {@code reading}, {@code waiting} (for the engine, or the source cannot be reached
 *     and is tried again) or {@code stopped}
 * @param reason why it is not reading, or what else the user should know; null if all is well
 * @param messages messages read since the process started
 * @param bytes bytes read since the process started
 * @param behind how much is there and not read yet, in the unit of {@code behindUnit}; −1 if not
 *     known
 * @param behindUnit {@code messages} or {@code bytes}
 * @param loading rows loaded so far of tables that are being loaded, by name
 * @param kept how much the source keeps because of us, in bytes; −1 if not known or not its way
 */
public record FeedStatus(
    String state,
    String reason,
    long messages,
    long bytes,
    long behind,
    String behindUnit,
    Map<String, Long> loading,
    long kept) {

  /** Why a feed waits for the engine. */
  public static final String FULL = "the views hold or are to take in as much as they may";

  public FeedStatus(
      String state,
      String reason,
      long messages,
      long bytes,
      long behind,
      String behindUnit,
      Map<String, Long> loading) {
    this(state, reason, messages, bytes, behind, behindUnit, loading, -1);
  }

  /** The same, waiting for the engine. */
  public FeedStatus full() {
    return new FeedStatus("waiting", FULL, messages, bytes, behind, behindUnit, loading, kept);
  }
}
