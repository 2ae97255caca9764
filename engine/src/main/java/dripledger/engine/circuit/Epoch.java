package dripledger.engine.circuit;

import dripledger.engine.time.Watermark;

/**
 * What every operator is told at the end of every epoch, whether it has been fed or not.
 *
 * @param number the epoch that is about to be published; 0 while a circuit is filled or asked once
 * @param watermarkMicros the lowest watermark of the node's inputs, in microseconds since 1970;
 *     {@link Watermark#NONE} until all have one, {@link Watermark#TIMELESS} if none ever has
 * @param nowMillis the loop's clock, see {@link Watermark#clock}
 * @param currentMicros the current time, in microseconds since 1970: it goes forward by steps, and
 *     is the same for all that is computed in an epoch
 */
public record Epoch(long number, long watermarkMicros, long nowMillis, long currentMicros) {
  /** Of the current time: it is not known. */
  public static final long NEVER = Long.MIN_VALUE;

  /** For circuits that take no part in epochs. */
  public static final Epoch OUTSIDE = new Epoch(0, Watermark.NONE, 0, NEVER);
}
