package dripledger.engine.source;

import java.util.Map;

/**
 * How a feed does.
 *
 * @param state {@code reading}, {@code waiting} (for the engine, or the source cannot be reached
 *     and is tried again) or {@code stopped}
 * @param reason why it is not reading, for the user; null if it is
 * @param messages messages read since the process started
 * @param bytes bytes read since the process started
 * @param behind how much is there and not read yet, in the unit of {@code behindUnit}; −1 if not
 *     known
 * @param behindUnit {@code messages} or {@code bytes}
 * @param loading rows loaded so far of tables that are being loaded, by name
 */
public record FeedStatus(
    String state,
    String reason,
    long messages,
    long bytes,
    long behind,
    String behindUnit,
    Map<String, Long> loading) {
  /** Why a feed waits for the engine. */
  public static final String FULL = "the views hold or are to take in as much as they may";

  /** The same, waiting for the engine. */
  public FeedStatus full() {
    return new FeedStatus("waiting", FULL, messages, bytes, behind, behindUnit, loading);
  }
}
