package dripledger.engine.delivery;

import dripledger.engine.source.Target.Carried;

/**
 * How a delivery does. Times are milliseconds since 1970; 0 for never.
 *
 * @param state {@code delivering}, {@code waiting} (for when it is due), {@code failing} (the
 *     target does not take it; it is tried again) or {@code stopped}
 * @param epoch the last one whose changes have arrived
 * @param carried what has been done at the target since the service started
 * @param batches in how many steps
 * @param waitingRows rows of changes that wait
 * @param waitingBytes what they take on disk
 * @param waitingSince when the oldest of them came
 * @param error why the last try did not work, or why it has stopped; or null
 * @param errorSince when that began
 */
public record DeliveryStatus(
    String state,
    long epoch,
    Carried carried,
    long batches,
    long waitingRows,
    long waitingBytes,
    long waitingSince,
    String error,
    long errorSince) {}
