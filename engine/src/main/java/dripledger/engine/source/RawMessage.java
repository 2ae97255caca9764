package dripledger.engine.source;

import java.time.LocalDateTime;
import java.util.Map;

/**
 * A message as it lies at the source.
 *
 * @param partition its partition
 * @param position its place in the partition (of a line: its number)
 * @param time when the source says it was written, in UTC; null if it does not say
 * @param key its key, or null
 * @param headers by name
 * @param value its bytes, or null
 */
public record RawMessage(
    int partition,
    long position,
    LocalDateTime time,
    byte[] key,
    Map<String, String> headers,
    byte[] value) {}
