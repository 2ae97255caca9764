package dripledger.server.health;

import dripledger.engine.Engine;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.checkpoint.Checkpointer;
import dripledger.engine.source.FeedStatus;
import dripledger.server.access.Tls;
import dripledger.server.access.Trust;
import java.sql.Connection;
import java.sql.SQLException;
import java.time.Duration;
import java.time.Instant;
import java.util.ArrayList;
import java.util.List;
import javax.sql.DataSource;
import org.springframework.stereotype.Component;

/** Finds what is not as it should be, and says so in sentences. Safe from any thread. */
@Component
public final class Findings {
  private static final double MOST_HELD = 0.9; // of what views may hold
  private static final Duration CERTIFICATE_SOON = Duration.ofDays(14);
  private static final int LATE_CHECKPOINTS = 12; // intervals
  private static final int DATABASE_SECONDS = 2;

  private final Engine engine;
  private final DataSource records;
  private final Trust trust;
  private final Tls tls;
  private final Instant started = Instant.now();

  /**
   * Something that is not as it should be.
   *
   * @param severe whether the service does not do all that it is for
   * @param what a word for it, the same each time
   * @param text what is wrong and what to do, in sentences
   */
  public record Finding(boolean severe, String what, String text) {}

  Findings(Engine engine, DataSource records, Trust trust, Tls tls) {
    this.engine = engine;
    this.records = records;
    this.trust = trust;
    this.tls = tls;
  }

  /** All of them, the severe ones first. */
  public List<Finding> all() {
    List<Finding> all = new ArrayList<>();
    String ailment = engine.ailment();
    if (ailment != null) {
      all.add(
          new Finding(
              true,
              "engine",
              "The engine does not do its work: "
                  + ailment
                  + ". If it does not get well, drip down and drip up; nothing is lost."));
    }
    database(all);
    checkpoints(all);
    for (CatalogObject object : engine.catalog().all()) {
      object(object, all);
    }
    room(all);
    certificate(all);
    if (trust.isOpen() && engine.access().hasOthers()) {
      all.add(
          new Finding(
              false,
              "open",
              "Whoever is on this machine may do everything without a token, although there are"
                  + " roles: drip.trust-loopback is always. That is for trying things out only."));
    }
    all.sort((a, b) -> Boolean.compare(b.severe, a.severe));
    return all;
  }

  private void database(List<Finding> all) {
    try (Connection c = records.getConnection()) {
      if (c.isValid(DATABASE_SECONDS)) {
        return;
      }
    } catch (SQLException e) {
      // said below
    }
    all.add(
        new Finding(
            true,
            "records",
            "The database of records does not answer: nothing new can be made durable, so pushes"
                + " and changes wait and then fail. Is PostgreSQL running?"));
  }

  private void checkpoints(List<Finding> all) {
    Checkpointer checkpointer = engine.checkpointer();
    Checkpointer.Figures last = checkpointer.figures();
    Duration longest = Duration.ofMillis(checkpointer.intervalMillis() * LATE_CHECKPOINTS);
    if (!checkpointer.isAlive()) {
      all.add(
          new Finding(
              true,
              "checkpoints",
              "No more checkpoints are made: their thread has ended. The log says why; drip down"
                  + " and drip up, nothing is lost."));
    } else if (checkpointer.failure() != null) {
      all.add(
          new Finding(
              true,
              "checkpoints",
              "The last checkpoint failed: "
                  + checkpointer.failure()
                  + ". It is tried again; until one is made a restart takes longer and sources keep"
                  + " more for us. Does PostgreSQL answer, and is there room on its disk?"));
    } else if (last == null
        && engine.loop().rowsTaken() > 0
        && started.plus(longest).isBefore(Instant.now())) {
      all.add(
          new Finding(
              true,
              "checkpoints",
              "No checkpoint was made since the start. Is PostgreSQL slow, or does a refresh take"
                  + " so long?"));
    }
  }

  private void object(CatalogObject object, List<Finding> all) {
    if (engine.node(object) != null && engine.node(object).failure() != null) {
      all.add(
          new Finding(
              true,
              object.name(),
              capital(object.kind())
                  + " "
                  + object.name()
                  + " has stopped: "
                  + engine.node(object).failure()
                  + ". Mend what is wrong, then make it anew, or REFRESH TABLE."));
      return;
    }
    FeedStatus feed = engine.input(object);
    if (feed != null && "stopped".equals(feed.state())) {
      all.add(
          new Finding(
              true,
              object.name(),
              capital(object.kind())
                  + " "
                  + object.name()
                  + " is not read any more: "
                  + feed.reason()
                  + "."));
    }
  }

  private static String capital(String text) {
    return Character.toUpperCase(text.charAt(0)) + text.substring(1);
  }

  private void room(List<Finding> all) {
    long held = engine.loop().heldBytes();
    long most = engine.options().maxHeldBytes();
    if (held > MOST_HELD * most) {
      all.add(
          new Finding(
              held > most,
              "memory",
              "Views hold "
                  + held / 1_000_000
                  + " MB of the "
                  + most / 1_000_000
                  + " MB they may; at the bound inputs wait. SHOW VIEWS says which hold most; bound"
                  + " their state, drop one, or give the service more heap."));
    }
    if (engine.loop().endedReads() > 0) {
      all.add(
          new Finding(
              false,
              "reads",
              engine.loop().endedReads()
                  + " long reads were ended since the start because too much was kept for them. Ask"
                  + " for less at once, or raise drip.max-held-bytes."));
    }
  }

  private void certificate(List<Finding> all) {
    if (tls.failure() != null) {
      all.add(
          new Finding(
              false,
              "certificate",
              "The certificate's files have changed and cannot be used: "
                  + tls.failure()
                  + ". The old one is used until they can."));
    }
    Instant expires = tls.expires();
    if (expires == null) {
      return;
    }
    Duration left = Duration.between(Instant.now(), expires);
    if (left.isNegative()) {
      all.add(
          new Finding(
              true,
              "certificate",
              "The certificate has ended at "
                  + expires
                  + ", and clients refuse it. Put a new one"
                  + " into its file; it is read again by itself."));
    } else if (left.compareTo(CERTIFICATE_SOON) < 0) {
      all.add(
          new Finding(
              false,
              "certificate",
              "The certificate ends in "
                  + left.toDays()
                  + " days. Put a new one into its file; it is read again by itself."));
    }
  }
}
