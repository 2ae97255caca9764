package dripledger.server.records;

import dripledger.engine.access.AccessStore.Entry;
import dripledger.engine.access.AccessStore.Noted;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.time.Instant;
import java.time.LocalDateTime;
import java.time.OffsetDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Executors;
import java.util.concurrent.Future;
import java.util.concurrent.ScheduledExecutorService;
import java.util.concurrent.TimeUnit;
import javax.sql.DataSource;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * What was done, by whom, in PostgreSQL. Written once a second by a thread of its own; the same
 * noted several times meanwhile is one entry. Safe from any thread.
 */
public final class Journal implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(Journal.class);
  private static final int MOST_WAITING = 10_000; // what is beyond is counted
  private static final int MOST_CHARS = 2000;
  private static final int MOST_NAME = 300;
  private static final int SHOWN = 10_000;

  private final DataSource dataSource;
  private final ScheduledExecutorService writer =
      Executors.newSingleThreadScheduledExecutor(
          task -> {
            Thread thread = new Thread(task, "journal");
            thread.setDaemon(true);
            return thread;
          });
  private Map<Entry, Waiting> waiting = new LinkedHashMap<>();
  private long lost;

  private static final class Waiting {
    private final Instant at = Instant.now();
    private long times;
  }

  public Journal(DataSource dataSource) {
    this.dataSource = dataSource;
    Future<?> ignored = writer.scheduleWithFixedDelay(this::write, 1, 1, TimeUnit.SECONDS);
  }

  void note(Entry given) {
    Entry entry =
        new Entry(
            shortened(given.role(), MOST_NAME),
            shortened(given.via(), MOST_NAME),
            given.what(),
            shortened(given.object(), MOST_NAME),
            shortened(given.detail(), MOST_CHARS));
    synchronized (this) {
      if (waiting.size() < MOST_WAITING || waiting.containsKey(entry)) {
        waiting.computeIfAbsent(entry, e -> new Waiting()).times++;
      } else {
        lost++;
      }
    }
  }

  private static String shortened(String text, int most) {
    return text != null && text.length() > most ? text.substring(0, most) + "…" : text;
  }

  private void write() {
    Map<Entry, Waiting> batch;
    synchronized (this) {
      if (lost > 0) {
        waiting.computeIfAbsent(
                    new Entry("owner", null, "lost", null, "entries that had no room"),
                    e -> new Waiting())
                .times +=
            lost;
        lost = 0;
      }
      if (waiting.isEmpty()) {
        return;
      }
      batch = waiting;
      waiting = new LinkedHashMap<>();
    }
    try {
      store(batch);
    } catch (SQLException | RuntimeException e) {
      LOG.warn("the journal cannot be written: {}", e.getMessage());
      synchronized (this) { // it is tried again
        Map<Entry, Waiting> newer = waiting;
        waiting = batch;
        newer.forEach((entry, w) -> waiting.merge(entry, w, Journal::both));
      }
    }
  }

  private static Waiting both(Waiting earlier, Waiting later) {
    earlier.times += later.times;
    return earlier;
  }

  private void store(Map<Entry, Waiting> batch) throws SQLException {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement(
                "INSERT INTO journal (at, role, via, what, object, detail, times)"
                    + " SELECT * FROM unnest(?::timestamptz[], ?::text[], ?::text[], ?::text[],"
                    + " ?::text[], ?::text[], ?::bigint[])")) {
      List<Entry> entries = List.copyOf(batch.keySet());
      List<Waiting> counts = List.copyOf(batch.values());
      s.setArray(1, array(c, "text", counts.stream().map(w -> w.at.toString()).toArray()));
      s.setArray(2, array(c, "text", entries.stream().map(Entry::role).toArray()));
      s.setArray(3, array(c, "text", entries.stream().map(Entry::via).toArray()));
      s.setArray(4, array(c, "text", entries.stream().map(Entry::what).toArray()));
      s.setArray(5, array(c, "text", entries.stream().map(Entry::object).toArray()));
      s.setArray(6, array(c, "text", entries.stream().map(Entry::detail).toArray()));
      s.setArray(7, array(c, "bigint", counts.stream().map(w -> w.times).toArray()));
      s.executeUpdate();
    }
  }

  private static java.sql.Array array(Connection c, String type, Object[] values)
      throws SQLException {
    return c.createArrayOf(type, values);
  }

  /** The last entries, oldest first, with those that are not stored yet. */
  List<Noted> all() {
    List<Noted> all = new ArrayList<>();
    try (Connection c = dataSource.getConnection();
        PreparedStatement s =
            c.prepareStatement(
                "SELECT * FROM (SELECT at, role, via, what, object, detail, times, id FROM journal"
                    + " ORDER BY id DESC LIMIT ?) AS last ORDER BY id")) {
      s.setInt(1, SHOWN);
      try (ResultSet r = s.executeQuery()) {
        while (r.next()) {
          all.add(
              new Noted(
                  r.getObject(1, OffsetDateTime.class)
                      .withOffsetSameInstant(ZoneOffset.UTC)
                      .toLocalDateTime(),
                  new Entry(
                      r.getString(2),
                      r.getString(3),
                      r.getString(4),
                      r.getString(5),
                      r.getString(6)),
                  r.getLong(7)));
        }
      }
    } catch (SQLException e) {
      throw new RecordsException("the journal cannot be read", e);
    }
    synchronized (this) {
      waiting.forEach(
          (entry, w) ->
              all.add(new Noted(LocalDateTime.ofInstant(w.at, ZoneOffset.UTC), entry, w.times)));
    }
    return all;
  }

  /** Lets go of what is older. */
  public void forget(Instant before) {
    try (Connection c = dataSource.getConnection();
        PreparedStatement s = c.prepareStatement("DELETE FROM journal WHERE at < ?")) {
      s.setObject(1, before.atOffset(ZoneOffset.UTC));
      s.executeUpdate();
    } catch (SQLException e) {
      throw new RecordsException("the journal cannot be shortened", e);
    }
  }

  /** Writes what waits. */
  @Override
  public void close() {
    writer.shutdownNow();
    write();
  }
}
