package dripledger.engine.source;

import java.time.LocalDateTime;

/**
 * A message that was not taken.
 *
 * @param objectId the stream or table it was for
 * @param at when, in UTC
 * @param reason why, for the user
 * @param key its key, or null
 * @param raw its bytes as they came; null if it had none
 * @param origin where it stands: partition and position, file and line
 */
public record Reject(
    long objectId, LocalDateTime at, String reason, byte[] key, byte[] raw, String origin) {}
