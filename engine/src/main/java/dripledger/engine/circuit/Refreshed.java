package dripledger.engine.circuit;

/**
 * What a refresh of a view has done.
 *
 * @param beganMicros when it was asked for, in microseconds since 1970
 * @param read rows of its inputs that were taken in
 * @param added rows that were put into the view; one whose value changes is taken out and put in
 * @param removed rows that were taken out of it
 * @param unchanged rows that were in it and still are
 * @param late rows that its steps left out because they came too late
 * @param rejected how many more rows fail now than before; negative for fewer
 * @param nanos how long it took
 */
public record Refreshed(
    long beganMicros,
    long read,
    long added,
    long removed,
    long unchanged,
    long late,
    long rejected,
    long nanos) {

  /** Told of the end of a refresh, on the loop's thread. */
  public interface Listener {
    /** It is done, and shown since this epoch. */
    void done(Refreshed what, long epoch);

    /** It will never be. */
    void failed(String reason);
  }
}
