package dripledger.server.records;

import java.sql.Connection;
import java.sql.SQLException;

/** Stands before every commit: only the service that owns the database gets through. */
@FunctionalInterface
public interface Fence {
  /** For tests and benchmarks that share nothing. */
  Fence NONE = c -> {};

  /**
   * Called inside the transaction.
   *
   * @throws Ownership.LostException if another service has taken over
   */
  void confirm(Connection c) throws SQLException;
}
