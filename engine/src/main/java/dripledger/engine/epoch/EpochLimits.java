package dripledger.engine.epoch;

/**
 * The bounds of the loop.
 *
 * @param maxEpochRows an epoch stops taking more once it has this many rows
 * @param maxQueuedBytes inputs wait once this many bytes are queued
 * @param maxHeldBytes sources wait while state and published rows hold more
 * @param workers how many threads step an epoch together
 * @param togetherRows an epoch of fewer rows is stepped by one thread
 */
public record EpochLimits(
    int maxEpochRows, long maxQueuedBytes, long maxHeldBytes, int workers, int togetherRows) {}
