package dripledger.engine;

/**
 * The engine's bounds.
 *
 * @param maxEpochRows an epoch stops taking more once it has this many rows
 * @param maxQueuedBytes inputs wait once this many bytes of changes are queued
 * @param maxResultRows a query that answers more rows than this is refused
 * @param maxFollowerRows a follower that is this many changes behind is cut off
 */
public record EngineOptions(
    int maxEpochRows, long maxQueuedBytes, int maxResultRows, int maxFollowerRows) {

  public static EngineOptions defaults() {
    return new EngineOptions(65_536, 128L << 20, 200_000, 200_000);
  }
}
