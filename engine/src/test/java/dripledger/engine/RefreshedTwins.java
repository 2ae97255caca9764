package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;

/**
 * Beside views that are kept up to date, some of the same queries that are refreshed now and then:
 * after a refresh each is what PostgreSQL says at that epoch, and it stays so until the next.
 */
final class RefreshedTwins {
  private static final int ONE_IN = 3; // of the views, and of the epochs

  private final TestEngine db;
  private final Random random;
  private final int which;
  private final Map<String, List<String>> shown = new HashMap<>();

  RefreshedTwins(TestEngine db, long seed) {
    this.db = db;
    random = new Random(~seed);
    which = (int) Math.floorMod(seed, (long) ONE_IN);
  }

  /**
   * Makes one, of some views.
   *
   * @param number of the view
   * @param options besides upkeep, each followed by a comma
   */
  void make(int number, String name, String options, String query) {
    if (number % ONE_IN == which) {
      db.run(
          "CREATE MATERIALIZED VIEW r_%s OPTIONS (%s upkeep 'on demand') AS %s"
              .formatted(name, options, query));
      shown.put(name, Answers.ours(db, "SELECT * FROM r_" + name));
    }
  }

  /** Compares one with what it has to be, if there is one, after a refresh or without. */
  void compare(String name, List<String> now) {
    if (!shown.containsKey(name)) {
      return;
    }
    boolean refresh = random.nextInt(ONE_IN) == 0;
    if (refresh) {
      db.run("REFRESH MATERIALIZED VIEW r_" + name);
      shown.put(name, now);
    }
    assertThat(Answers.ours(db, "SELECT * FROM r_" + name))
        .as("refreshed view %s, %s", name, refresh ? "just now" : "before")
        .isEqualTo(shown.get(name));
  }
}
