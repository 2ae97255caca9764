package dripledger.engine.access;

/**
 * Somebody who may do something.
 *
 * @param owner whether it may do everything
 * @param shared whether it is somebody outside, of whom every read is noted
 * @param bounds what it may use at most
 */
public record Role(String name, boolean owner, boolean shared, Bounds bounds) {
  /** The name of the role that is there from the first start on. */
  public static final String OWNER = "owner";

  /**
   * What a role may use at most; 0 where it has no bound of its own.
   *
   * @param statementMillis for one query
   * @param maxRows of an answer
   * @param maxMemory bytes of heap that one query may hold
   * @param maxBody bytes of one request
   * @param perSecond requests and statements
   * @param connections of SQL clients and followers at the same time
   */
  public record Bounds(
      long statementMillis,
      long maxRows,
      long maxMemory,
      long maxBody,
      long perSecond,
      long connections) {
    public static final Bounds NONE = new Bounds(0, 0, 0, 0, 0, 0);
  }
}
