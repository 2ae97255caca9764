package dripledger.server.records;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.util.UUID;
import java.util.function.Consumer;
import javax.sql.DataSource;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * One service owns one database. A connection of its own holds a session lock for as long as the
 * service runs; a second service is refused at its start. Should the lock be lost with its
 * connection, it is taken again; if another service was faster, this one learns it and ends.
 *
 * <p>In between it fences: the owner's token is read in every transaction that writes, and only the
 * last owner's is there. Thread-safe.
 */
public final class Ownership implements Fence, AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(Ownership.class);
  private static final long LOCK = 0x64726970L; // the same for all services of one database
  private static final long CHECK_MILLIS = 1000;
  private static final int CHECK_SECONDS = 5;
  private static final int TRIES_AT_START = 10;

  private final DataSource dataSource;
  private final String token = UUID.randomUUID().toString();
  private final Thread watcher = new Thread(this::watch, "database-owner");
  private Connection session;
  private Consumer<String> onLost = reason -> {};
  private volatile boolean closed;

  /** Thrown where another service has taken over; nothing was written. */
  public static final class LostException extends RuntimeException {
    private static final long serialVersionUID = 1L;

    LostException() {
      super("another service has taken over this database");
    }
  }

  /**
   * Takes the lock.
   *
   * @throws IllegalStateException if another service has it
   */
  public Ownership(DataSource dataSource) {
    this.dataSource = dataSource;
    try {
      boolean taken = take();
      // A service that was killed a moment ago may still have its session there.
      for (int i = 0; !taken && i < TRIES_AT_START; i++) {
        Thread.sleep(CHECK_MILLIS / 2);
        taken = take();
      }
      if (!taken) {
        throw new IllegalStateException(
            "another Drip Ledger service is using this database; one database serves one service");
      }
    } catch (SQLException e) {
      throw new RecordsException("the database cannot be locked", e);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
    watcher.setDaemon(true);
    watcher.start();
  }

  /** What to do if another service has taken over. */
  public synchronized void onLost(Consumer<String> action) {
    onLost = action;
  }

  private boolean take() throws SQLException {
    Connection c = dataSource.getConnection();
    boolean taken = false;
    try {
      c.setAutoCommit(true);
      try (PreparedStatement s = c.prepareStatement("SELECT pg_try_advisory_lock(?)")) {
        s.setLong(1, LOCK);
        try (ResultSet r = s.executeQuery()) {
          r.next();
          taken = r.getBoolean(1);
        }
      }
      if (taken && session == null) {
        try (PreparedStatement s =
            c.prepareStatement(
                "INSERT INTO owner (token, since) VALUES (?, now()) ON CONFLICT (only_row)"
                    + " DO UPDATE SET token = excluded.token, since = excluded.since")) {
          s.setString(1, token);
          s.executeUpdate();
        }
      }
    } finally {
      if (taken) {
        session = c;
      } else {
        c.close();
      }
    }
    return taken;
  }

  @Override
  public void confirm(Connection c) throws SQLException {
    try (PreparedStatement s = c.prepareStatement("SELECT token FROM owner FOR SHARE");
        ResultSet r = s.executeQuery()) {
      if (!r.next() || !token.equals(r.getString(1))) {
        throw new LostException();
      }
    }
  }

  private void watch() {
    while (!closed) {
      try {
        Thread.sleep(CHECK_MILLIS);
        if (!closed && !session.isValid(CHECK_SECONDS)) {
          renew();
        }
      } catch (SQLException e) {
        LOG.debug("the database does not answer", e);
      } catch (InterruptedException e) {
        return;
      }
    }
  }

  private void renew() throws SQLException {
    try {
      session.close();
    } catch (SQLException e) {
      LOG.debug("a broken session", e);
    }
    boolean taken = take();
    try (Connection c = dataSource.getConnection()) {
      confirm(c);
    } catch (LostException e) {
      closed = true;
      Consumer<String> told;
      synchronized (this) {
        told = onLost;
      }
      told.accept(e.getMessage());
      return;
    }
    if (taken) {
      LOG.info("the database is back, and still ours");
    }
  }

  @Override
  public void close() {
    closed = true;
    watcher.interrupt();
    try {
      session.close();
    } catch (SQLException e) {
      LOG.debug("the session could not be closed", e);
    }
  }
}
