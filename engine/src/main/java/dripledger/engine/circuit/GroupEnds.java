package dripledger.engine.circuit;

import java.util.function.IntConsumer;

/** When the groups of an aggregate end, by the watermark. Written by one thread. */
interface GroupEnds {
  /** Whether a group's row is put out when it ends, and not before. */
  boolean publish();

  /** Up to which time groups have ended; what is kept of values beside them is let go. */
  long over();

  /** Gives the groups that end by a watermark, each once. */
  void endUpTo(long watermark, IntConsumer sink);

  /** Goes on with the groups that were restored. */
  void restored(long watermark);

  long heapBytes();
}
