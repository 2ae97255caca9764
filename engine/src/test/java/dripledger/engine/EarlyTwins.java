package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.time.Duration;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;

/**
 * Settled views that show their rows early: when the time for it has come each shows all rows as
 * they stand; in between a row changes when it is settled, and no other.
 */
final class EarlyTwins {
  static final Duration EVERY = Duration.ofSeconds(5);

  private final TestEngine db;
  private final Map<String, List<String>> shown = new HashMap<>();
  private int turns;

  EarlyTwins(TestEngine db) {
    this.db = db;
    db.run("CREATE TABLE turn (number INTEGER PRIMARY KEY)");
  }

  void make(String name, String query) {
    db.run(
        "CREATE MATERIALIZED VIEW e_%s OPTIONS (rows 'settled', early 'every 5 seconds') AS %s"
            .formatted(name, query));
    shown.put(name, Answers.ours(db, "SELECT * FROM e_" + name));
  }

  boolean has(String name) {
    return shown.containsKey(name);
  }

  /** Lets the current time pass. */
  void turn() {
    turns++;
    db.clock(TestEngine.CLOCK.instant().plus(EVERY.multipliedBy(turns)));
    db.run("INSERT INTO turn VALUES (" + turns + ")"); // an epoch
  }

  /**
   * Compares one with what it has to be, if there is one.
   *
   * @param turned whether the time has come; null if it crashed, and may have come once more
   * @param all rows as they stand
   * @param settled those of them that are settled
   * @param watermark of the streams, or null
   */
  void compare(
      String name,
      Boolean turned,
      List<String> all,
      List<String> settled,
      LocalDateTime watermark) {
    if (!has(name)) {
      return;
    }
    List<String> ours = Answers.ours(db, "SELECT * FROM e_" + name);
    if (Boolean.TRUE.equals(turned)) {
      assertThat(ours).as("early view %s, as it stands", name).isEqualTo(all);
    } else if (watermark != null) {
      String ended = " WHERE window_end <= TIMESTAMP '" + watermark.toString().replace('T', ' ');
      assertThat(Answers.ours(db, "SELECT * FROM e_" + name + ended + "'"))
          .as("early view %s, settled", name)
          .isEqualTo(settled);
      List<String> open = new ArrayList<>(ours);
      settled.forEach(open::remove);
      List<String> before = new ArrayList<>(shown.get(name));
      before.removeAll(settled);
      if (turned != null) {
        assertThat(before).as("early view %s, in between", name).containsAll(open);
      }
    }
    shown.put(name, ours);
  }
}
