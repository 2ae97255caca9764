package dripledger.engine.source;

import java.util.List;

/**
 * An open way to where a delivery goes. Used by one thread; every method may block on the network
 * and throws {@link dripledger.engine.error.EngineException} with a sentence of its own.
 */
public interface Target extends AutoCloseable {
  /** The number of the first batch that has not arrived, or −1 if the target does not know. */
  long next();

  /**
   * Carries batches over, all of them or none; the numbers stand at the target with them.
   *
   * @param batches in the order of their numbers, of which none has arrived
   */
  Carried carry(List<Outgoing> batches);

  /** How many rows it takes in one step. */
  default int mostRows() {
    return 50_000;
  }

  /** How much it takes in one step, in bytes of rows. */
  default long mostBytes() {
    return 16L << 20;
  }

  @Override
  void close();

  /**
   * A message that the target will never take.
   *
   * @param reason why, in its words
   * @param origin which batch it is of
   */
  record Refused(byte[] message, String reason, String origin) {}

  /**
   * What carrying did at the target.
   *
   * @param put rows or messages that came
   * @param changed rows that were there and are others now
   * @param unchanged rows that were there already, as they are
   * @param removed rows that went
   * @param refused messages that the target will never take
   */
  record Carried(long put, long changed, long unchanged, long removed, List<Refused> refused) {
    /** Without anything refused. */
    public Carried(long put, long changed, long unchanged, long removed) {
      this(put, changed, unchanged, removed, List.of());
    }

    /** Nothing. */
    public static final Carried NONE = new Carried(0, 0, 0, 0);

    /** Both together, but for what was refused. */
    public Carried plus(Carried other) {
      return new Carried(
          put + other.put,
          changed + other.changed,
          unchanged + other.unchanged,
          removed + other.removed);
    }
  }
}
