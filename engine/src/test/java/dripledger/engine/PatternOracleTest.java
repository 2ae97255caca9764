package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.pattern.RowPattern;
import dripledger.engine.source.Connectors;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collections;
import java.util.List;
import java.util.Random;
import java.util.TreeMap;
import java.util.stream.IntStream;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;

/**
 * Random patterns against one that tries every way ({@link ReferenceMatcher}): over a table while
 * its rows change, and over a stream whose events come in any order, in any batches and partitions,
 * with crashes.
 */
class PatternOracleTest {
  private static final String[] NAMES = {"a", "b", "c"};
  private static final int WITHIN = 6; // seconds

  /** A condition in both languages. */
  private record Both(String sql, ReferenceMatcher.Condition ours) {}

  private static int last(List<ReferenceMatcher.Bound> match, int variable, int offset) {
    int left = offset;
    for (int i = match.size() - 1; i >= 0; i--) {
      if ((variable < 0 || match.get(i).variable() == variable) && left-- == 0) {
        return match.get(i).position();
      }
    }
    return -1;
  }

  private static int now(List<ReferenceMatcher.Bound> match) {
    return match.get(match.size() - 1).position();
  }

  private static String away(int[] w, int position, int rows) {
    return position < 0 || position + rows >= w.length ? "null" : "" + w[position + rows];
  }

  private static int sum(int[] w, List<ReferenceMatcher.Bound> match, int variable) {
    return match.stream()
        .filter(b -> b.variable() == variable)
        .mapToInt(b -> w[b.position()])
        .sum();
  }

  private static Both condition(Random random, int variable) {
    String v = NAMES[variable];
    int other = (variable + 1 + random.nextInt(2)) % 3;
    String o = NAMES[other];
    int number = 1 + random.nextInt(5);
    return switch (random.nextInt(9)) {
      case 0 -> new Both(v + ".w >= " + number, (w, m) -> w[now(m)] >= number);
      case 1 -> new Both("w > PREV(w)", (w, m) -> now(m) > 0 && w[now(m)] > w[now(m) - 1]);
      case 2 -> {
        String sql = v + ".w <> " + o + ".w";
        yield new Both(sql, (w, m) -> last(m, other, 0) >= 0 && w[now(m)] != w[last(m, other, 0)]);
      }
      case 3 -> {
        String sql = v + ".w < LAST(" + v + ".w, 1) OR COUNT(" + v + ".w) = 1";
        yield new Both(
            sql, (w, m) -> last(m, variable, 1) < 0 || w[now(m)] < w[last(m, variable, 1)]);
      }
      case 4 -> {
        String sql = "COALESCE(SUM(" + o + ".w), 0) < " + 2 * number;
        yield new Both(sql, (w, m) -> sum(w, m, other) < 2 * number);
      }
      case 5 -> new Both("COUNT(*) <= " + number, (w, m) -> m.size() <= number);
      case 6 -> new Both("w <= FIRST(w)", (w, m) -> w[now(m)] <= w[m.get(0).position()]);
      case 7 -> {
        String sql = v + ".w < NEXT(" + v + ".w)";
        yield new Both(sql, (w, m) -> now(m) + 1 < w.length && w[now(m)] < w[now(m) + 1]);
      }
      default -> new Both(null, (w, m) -> true);
    };
  }

  private static RowPattern pattern(Random random, int depth) {
    int kind = depth == 0 ? 0 : random.nextInt(9);
    return switch (kind) {
      case 1, 2, 3 ->
          new RowPattern.Sequence(
              IntStream.range(0, 2 + random.nextInt(2))
                  .mapToObj(i -> pattern(random, depth - 1))
                  .toList());
      case 4, 5 ->
          new RowPattern.Choice(List.of(pattern(random, depth - 1), pattern(random, depth - 1)));
      case 6, 7 -> {
        int least = random.nextInt(3);
        int most = random.nextBoolean() ? -1 : Math.max(1, least + random.nextInt(2));
        yield new RowPattern.Repeat(
            pattern(random, depth - 1), least, most, random.nextInt(3) == 0);
      }
      case 8 -> new RowPattern.Excluded(pattern(random, depth - 1));
      default -> new RowPattern.Variable(random.nextInt(3));
    };
  }

  /** In parentheses all over: what is printed for people leaves some out. */
  private static String sql(RowPattern pattern) {
    if (pattern instanceof RowPattern.Sequence s) {
      return "(" + String.join(" ", s.parts().stream().map(PatternOracleTest::sql).toList()) + ")";
    }
    if (pattern instanceof RowPattern.Choice c) {
      return "("
          + String.join(" | ", c.parts().stream().map(PatternOracleTest::sql).toList())
          + ")";
    }
    if (pattern instanceof RowPattern.Excluded e) {
      return "{- " + sql(e.part()) + " -}";
    }
    if (pattern instanceof RowPattern.Repeat r) {
      String most = r.most() < 0 ? "" : "" + r.most();
      return "(" + sql(r.part()) + "){" + r.least() + "," + most + "}" + (r.reluctant() ? "?" : "");
    }
    return NAMES[((RowPattern.Variable) pattern).number()];
  }

  /** A query and what it is made of. */
  private static final class Query {
    final RowPattern pattern;
    final List<Both> conditions = new ArrayList<>();
    final boolean nextRow;
    final boolean allRows;
    final boolean within;

    Query(Random random, boolean within) {
      RowPattern made = pattern(random, 3);
      // every variable is named, so that conditions may speak of it
      pattern =
          new RowPattern.Sequence(
              List.of(
                  made,
                  new RowPattern.Repeat(new RowPattern.Variable(0), 0, 1, false),
                  new RowPattern.Repeat(new RowPattern.Variable(1), 0, 1, true),
                  new RowPattern.Repeat(new RowPattern.Variable(2), 0, 1, random.nextBoolean())));
      for (int v = 0; v < 3; v++) {
        conditions.add(condition(random, v));
      }
      nextRow = random.nextBoolean();
      allRows = random.nextBoolean();
      this.within = within;
    }

    String sql(String relation, String order) {
      List<String> defines = new ArrayList<>();
      for (int v = 0; v < 3; v++) {
        if (conditions.get(v).sql != null) {
          defines.add(NAMES[v] + " AS " + conditions.get(v).sql);
        }
      }
      defines.add(defines.isEmpty() ? "a AS true" : "");
      return "SELECT * FROM "
          + relation
          + " MATCH_RECOGNIZE (PARTITION BY k ORDER BY "
          + order
          + " MEASURES MATCH_NUMBER() AS number, FIRST(n) AS first_n, CLASSIFIER() AS label, SUM(b.w) AS"
          + " s, FINAL COUNT(*) AS c, PREV(FIRST(w)) AS p, NEXT(b.w + 0) AS q "
          + (allRows ? "ALL ROWS" : "ONE ROW")
          + " PER MATCH AFTER MATCH SKIP "
          + (nextRow ? "TO NEXT ROW" : "PAST LAST ROW")
          + " PATTERN ("
          + PatternOracleTest.sql(pattern)
          + ")"
          + (within ? " WITHIN INTERVAL '" + WITHIN + "' SECOND" : "")
          + " DEFINE "
          + String.join(", ", defines.stream().filter(d -> !d.isEmpty()).toList())
          + ") AS m";
    }

    /** What the query answers for one partition, as rows of text: columns that both forms have. */
    List<String> answers(String key, int[] numbers, int[] times, int[] w) {
      ReferenceMatcher matcher =
          new ReferenceMatcher(w, conditions.stream().map(Both::ours).toList());
      List<String> out = new ArrayList<>();
      int matches = 0;
      for (int at = 0; at < w.length; ) {
        int limit = w.length;
        for (int i = at; within && i < limit; i++) {
          limit = times[i] - times[at] > WITHIN ? i : limit;
        }
        List<ReferenceMatcher.Bound> match = matcher.find(pattern, at, limit);
        if (match == null) {
          at++;
          continue;
        }
        matches++;
        boolean whole = !allRows || match.isEmpty();
        for (int i = whole ? match.size() : 1; i <= match.size(); i++) {
          List<ReferenceMatcher.Bound> running = match.subList(0, i);
          if (!whole && running.get(i - 1).excluded()) {
            continue;
          }
          boolean any = running.stream().anyMatch(b -> b.variable() == 1);
          out.add(
              String.join(
                  "|",
                  key,
                  "" + matches,
                  match.isEmpty() ? "null" : "" + numbers[match.get(0).position()],
                  running.isEmpty() ? "null" : NAMES[running.get(i - 1).variable()],
                  any ? "" + sum(w, running, 1) : "null",
                  "" + match.size(),
                  match.isEmpty() || at == 0 ? "null" : "" + w[at - 1],
                  away(w, last(running, 1, 0), 1)));
        }
        at = match.isEmpty() || nextRow ? at + 1 : at + match.size();
      }
      Collections.sort(out);
      return out;
    }

    static final String COLUMNS = "k, number, first_n, label, s, c, p, q";
  }

  private static List<String> ours(TestEngine db, String from) {
    List<String> rows = new ArrayList<>();
    for (String row : db.rows("SELECT " + Query.COLUMNS + " FROM " + from)) {
      rows.add(row.substring(1, row.length() - 1).replace(", ", "|"));
    }
    Collections.sort(rows);
    return rows;
  }

  @Test
  void overATableWhileItsRowsChange() {
    for (long seed = 0; seed < 60; seed++) {
      Random random = new Random(seed);
      try (TestEngine db = new TestEngine()) {
        db.run("CREATE TABLE weight (k VARCHAR, n INTEGER, w INTEGER, PRIMARY KEY (k, n))");
        List<Query> queries = new ArrayList<>();
        for (int q = 0; q < 3; q++) {
          queries.add(new Query(random, false));
          db.run(
              "CREATE MATERIALIZED VIEW v%d AS %s".formatted(q, queries.get(q).sql("weight", "n")));
        }
        List<TreeMap<Integer, Integer>> weights = List.of(new TreeMap<>(), new TreeMap<>());
        for (int epoch = 0; epoch < 12; epoch++) {
          for (int change = 0; change < 3; change++) {
            int k = random.nextInt(2);
            int n = random.nextInt(9);
            int w = 1 + random.nextInt(5);
            db.run("DELETE FROM weight WHERE k = 'k%d' AND n = %d".formatted(k, n));
            weights.get(k).remove(n);
            if (random.nextInt(4) > 0) {
              db.run("INSERT INTO weight VALUES ('k%d', %d, %d)".formatted(k, n, w));
              weights.get(k).put(n, w);
            }
          }
          if (epoch == 5) {
            db.checkpoint();
          }
          if (epoch == 7) {
            db.crash();
          }
          for (int q = 0; q < 3; q++) {
            List<String> expected = new ArrayList<>();
            for (int k = 0; k < 2; k++) {
              int[] n = weights.get(k).keySet().stream().mapToInt(i -> i).toArray();
              int[] w = weights.get(k).values().stream().mapToInt(i -> i).toArray();
              expected.addAll(queries.get(q).answers("k" + k, n, n, w));
            }
            Collections.sort(expected);
            String sql = queries.get(q).sql("weight", "n");
            assertThat(ours(db, "v" + q))
                .as("seed %d epoch %d: %s", seed, epoch, sql)
                .isEqualTo(expected);
            if (epoch == 11) {
              assertThat(ours(db, "(" + sql + ") AS q")).as("once: %s", sql).isEqualTo(expected);
            }
          }
        }
      }
    }
  }

  @ParameterizedTest
  @CsvSource({"1, 1", "2, 1", "3, 2", "4, 4"})
  void overAStreamInAnyOrderOfArrival(int partitions, int workers) {
    for (long seed = 0; seed < 15; seed++) {
      Random random = new Random(seed);
      Query[] queries = {new Query(random, true), new Query(random, true), new Query(random, true)};
      List<List<String>> expected = expected(queries);
      Random order = new Random(seed * 31 + partitions);
      try (TestEngine db = new TestEngine(TestEngine.records(), Connectors.NONE, workers)) {
        db.run(
            "CREATE STREAM scan (k VARCHAR, n INTEGER, w INTEGER, at TIMESTAMP NOT NULL, EVENT TIME at"
                + " LATENESS INTERVAL '10' SECOND)");
        for (int q = 0; q < queries.length; q++) {
          db.run("CREATE MATERIALIZED VIEW v%d AS %s".formatted(q, queries[q].sql("scan", "at")));
        }
        run(db, order, partitions, queries);
        for (int q = 0; q < queries.length; q++) {
          List<String> rows = new ArrayList<>(ours(db, "v" + q));
          rows.removeIf(PatternOracleTest::isLast);
          assertThat(rows)
              .as("seed %d, %d partitions: %s", seed, partitions, queries[q].sql("scan", "at"))
              .isEqualTo(expected.get(q));
          if (q == 0) {
            assertThat(ours(db, "later")).as("made later").isEqualTo(ours(db, "v0"));
          }
          assertThat(db.state("v" + q).late()).isZero();
          assertThat(db.state("v" + q).keys())
              .as("state, seed %d: %s", seed, queries[q].sql("scan", "at"))
              .isLessThan(12);
        }
      }
    }
  }

  private static boolean isLast(String row) {
    String first = row.split("\\|")[2];
    return first.equals("null") || Integer.parseInt(first) >= LAST;
  }

  private static final int EVENTS = 120;
  private static final int LAST = 1000;

  /** How often an event comes: some come twice. */
  private static int comes(int n) {
    return n % 13 == 0 ? 2 : 1;
  }

  /** Event n is at second n, of key n % 7 % 3, with a weight of its own. */
  private static Object[] event(int n, int at) {
    int key = n % 7 % 3;
    LocalDateTime time = LocalDateTime.parse("2026-03-02T06:00:00").plusSeconds(at);
    return new Object[] {"k" + key, n, 1 + n * n % 11 % 5, time};
  }

  private static List<List<String>> expected(Query[] queries) {
    List<List<String>> all = new ArrayList<>();
    for (int q = 0; q < queries.length; q++) {
      List<String> own = new ArrayList<>();
      for (int k = 0; k < 3; k++) {
        int key = k;
        int[] n =
            IntStream.range(0, EVENTS)
                .filter(i -> i % 7 % 3 == key)
                .flatMap(i -> IntStream.range(0, comes(i)).map(again -> i))
                .toArray();
        int[] numbers = Arrays.copyOf(n, n.length + 1);
        numbers[n.length] = LAST + k;
        int[] times = Arrays.copyOf(n, n.length + 1);
        times[n.length] = 10_000;
        int[] w = Arrays.stream(numbers).map(i -> i >= LAST ? 3 : 1 + i * i % 11 % 5).toArray();
        own.addAll(queries[q].answers("k" + k, numbers, times, w));
      }
      own.removeIf(PatternOracleTest::isLast);
      Collections.sort(own);
      all.add(own);
    }
    return all;
  }

  private static void run(TestEngine db, Random random, int partitions, Query[] queries) {
    List<List<Object[]>> waiting = new ArrayList<>();
    for (int p = 0; p < partitions; p++) {
      db.pushFrom("scan", p, before());
      waiting.add(new ArrayList<>());
    }
    List<List<String>> seen = new ArrayList<>(Collections.nCopies(queries.length, List.of()));
    for (int from = 0; from < EVENTS; from += 10) {
      if (from == EVENTS / 2) {
        db.run("CREATE MATERIALIZED VIEW later AS " + queries[0].sql("scan", "at"));
      } // shuffled within what may be late
      List<Object[]> events = new ArrayList<>();
      for (int n = from; n < from + 10; n++) {
        events.addAll(Collections.nCopies(comes(n), event(n, n)));
      }
      Collections.shuffle(events, random);
      events.forEach(e -> waiting.get(random.nextInt(partitions)).add(e));
      for (List<Object[]> own : waiting) {
        int p = waiting.indexOf(own);
        while (!own.isEmpty() && random.nextInt(6) > 0) {
          int count = 1 + random.nextInt(own.size());
          db.pushFrom("scan", p, own.subList(0, count).toArray(Object[][]::new));
          own.subList(0, count).clear();
        }
      }
      if (random.nextInt(5) == 0) {
        db.checkpoint();
      }
      if (random.nextInt(6) == 0) {
        db.crash();
      }
      for (int q = 0; q < queries.length; q++) {
        List<String> rows = ours(db, "v" + q);
        assertThat(rows).as("what is put out stays").containsAll(seen.get(q));
        seen.set(q, rows);
      }
    }
    for (int p = 0; p < partitions; p++) {
      List<Object[]> own = waiting.get(p);
      if (p == 0) {
        for (int k = 0; k < 3; k++) {
          Object[] last = event(k, 10_000);
          last[1] = LAST + k;
          last[2] = 3;
          own.add(last);
        }
      }
      own.add(end());
      db.pushFrom("scan", p, own.toArray(Object[][]::new));
    }
    for (int i = 0; i < 16; i++) { // so often it is looked how much there is
      db.pushFrom("scan", 0, end());
    }
  }

  private static Object[] end() {
    Object[] end = before();
    end[3] = LocalDateTime.parse("2026-03-03T06:00:00");
    return end;
  }

  /** An event of no partition that is looked at: it says that the stream's partition is there. */
  private static Object[] before() {
    return new Object[] {"x", LAST + 9, 0, LocalDateTime.parse("2026-03-02T05:00:00")};
  }
}
