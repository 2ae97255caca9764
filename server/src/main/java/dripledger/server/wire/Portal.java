package dripledger.server.wire;

import java.io.IOException;
import java.util.List;

/** A statement with all its values, whose rows are fetched in pieces. One thread. */
abstract class Portal implements AutoCloseable {
  /** The columns of its answer; null if it answers no rows. May carry the statement out. */
  abstract List<Field> fields();

  /**
   * Carries the statement out as far as that was not done, and sends rows.
   *
   * @param most rows to send; 0 for all
   * @return how many were sent
   */
  abstract long send(WireOutput out, Formats formats, long most) throws IOException;

  /**
   * Carries the statement out, tells its columns and sends all its rows, as text.
   *
   * @return how many were sent
   */
  long answer(WireOutput out) throws IOException {
    List<Field> fields = fields();
    if (fields != null) {
      Field.describe(out, fields, Formats.TEXT);
    }
    return send(out, Formats.TEXT, 0);
  }

  /** Whether there are no more rows. */
  boolean hasEnded() {
    return true;
  }

  /** What was done, as clients are told. */
  abstract String tag(long rows);

  @Override
  public void close() {}
}
