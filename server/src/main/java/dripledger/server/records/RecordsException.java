package dripledger.server.records;

import dripledger.connectors.postgres.DatabaseErrors;
import java.sql.SQLException;

/** The database of records failed; the message is for the user, the cause for the log. */
public final class RecordsException extends RuntimeException {
  private static final long serialVersionUID = 1L;

  RecordsException(String message, Throwable cause) {
    super(message, cause instanceof SQLException e ? DatabaseErrors.plain(e) : cause);
  }
}
