package dripledger.connectors.postgres;

import java.sql.BatchUpdateException;
import java.sql.SQLException;
import org.postgresql.util.PSQLException;
import org.postgresql.util.ServerErrorMessage;

/**
 * What a database's error says without the data it is about: a driver's own text has whole
 * statements with their values, and a server's detail has keys. Stateless.
 */
public final class DatabaseErrors {
  private DatabaseErrors() {}

  /** One sentence. */
  public static String sentence(SQLException e) {
    SQLException first =
        e instanceof BatchUpdateException && e.getNextException() != null
            ? e.getNextException()
            : e;
    ServerErrorMessage server = first instanceof PSQLException p ? p.getServerErrorMessage() : null;
    String message =
        server == null || server.getMessage() == null
            ? String.valueOf(first.getMessage()).lines().findFirst().orElse("")
            : server.getMessage();
    if (first instanceof BatchUpdateException) { // with no other, its text has the statement
      message = "a batch of changes was refused";
    }
    String state = String.valueOf(first.getSQLState());
    return state.startsWith("22") ? message.replaceAll(": \".*", "") : message;
  }

  /** The same as an error, for logs. */
  public static SQLException plain(SQLException e) {
    SQLException plain = new SQLException(sentence(e), e.getSQLState());
    plain.setStackTrace(e.getStackTrace());
    return plain;
  }
}
