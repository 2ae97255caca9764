package dripledger.bench;

import dripledger.engine.row.Page;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.PriorityQueue;
import java.util.SplittableRandom;

/**
 * A pattern of three rising values within a minute, by key, against a loop by hand that puts the
 * events in order behind the watermark and goes from state to state with each. Events are up to
 * four seconds out of order; the lateness is five seconds.
 */
final class TimedPatterns {
  private static final int ROUNDS = 3;
  private static final long SECOND = 1_000_000L;
  private static final long LATENESS = 5 * SECOND;
  private static final long WITHIN = 60 * SECOND;
  private static final int EVENTS_A_SECOND = 20_000;
  private static final String PATTERN =
      "SELECT * FROM event MATCH_RECOGNIZE (PARTITION BY k ORDER BY at MEASURES FIRST(at) AS since,"
          + " LAST(at) AS until, LAST(v) AS v ONE ROW PER MATCH AFTER MATCH SKIP PAST LAST ROW PATTERN (a b"
          + " c) WITHIN INTERVAL '1' MINUTE DEFINE b AS b.v > a.v, c AS c.v > b.v) AS m";

  private final int events;
  private final int keys;
  private final int epochRows;
  private long sink;

  TimedPatterns(int events, int keys, int epochRows) {
    this.events = events;
    this.keys = keys;
    this.epochRows = epochRows;
  }

  void run() {
    System.out.printf(
        "%npatterns: %,d events, %,d a second, %,d keys, epochs of %,d rows%n",
        events, EVENTS_A_SECOND, keys, epochRows);
    double byHand = 0;
    double view = 0;
    for (int round = 0; round < ROUNDS; round++) {
      byHand = Math.max(byHand, byHand());
      view = Math.max(view, view());
    }
    TimedView.print("three rising values: hand-written loop", byHand, 0);
    TimedView.print("three rising values", view, byHand);
    System.out.println(sink == 42 ? "" : " "); // so that nothing is left out
  }

  private SplittableRandom random;
  private int number;

  private void begin() {
    random = new SplittableRandom(7);
    number = 0;
  }

  private long[] next() {
    long now = number++ * SECOND / EVENTS_A_SECOND;
    return new long[] {
      random.nextInt(keys),
      1_700_000_000_000_000L + now - random.nextLong(4 * SECOND),
      random.nextInt(30_000)
    };
  }

  /** The last rows of a key that may begin a match. */
  private static final class Rising {
    final long[] first = new long[2];
    final long[] second = new long[2];
    int count;

    /** Whether a row completes a match. */
    boolean take(long at, long value) {
      if (count > 0 && at - first[0] > WITHIN) {
        count--;
        first[0] = second[0];
        first[1] = second[1];
        if (count > 0 && at - first[0] > WITHIN) {
          count = 0;
        }
      }
      long[] last = count == 2 ? second : first;
      if (count == 2 && value > last[1]) {
        count = 0;
        return true;
      }
      boolean rises = count == 1 && value > last[1];
      if (!rises) {
        count = 0;
      }
      long[] into = count == 0 ? first : second;
      into[0] = at;
      into[1] = value;
      count++;
      return false;
    }
  }

  private double byHand() {
    begin();
    PriorityQueue<long[]> waiting = new PriorityQueue<>((a, b) -> Long.compare(a[1], b[1]));
    Map<Long, Rising> open = new HashMap<>();
    long highest = Long.MIN_VALUE;
    double nanos = 0;
    for (int done = 0; done < events; done += epochRows) {
      long[][] rows = new long[epochRows][];
      for (int i = 0; i < epochRows; i++) {
        rows[i] = next();
      }
      long began = System.nanoTime();
      for (long[] row : rows) {
        highest = Math.max(highest, row[1]);
        if (row[1] > highest - LATENESS) {
          waiting.add(row);
        }
      }
      while (!waiting.isEmpty() && waiting.peek()[1] < highest - LATENESS) {
        long[] row = waiting.poll();
        sink += open.computeIfAbsent(row[0], k -> new Rising()).take(row[1], row[2]) ? 1 : 0;
      }
      nanos += System.nanoTime() - began;
    }
    return events / nanos * 1e9;
  }

  private double view() {
    begin();
    double nanos = 0;
    try (TimedView view = new TimedView(LATENESS, epochRows, "", PATTERN, List.of("event"))) {
      for (int done = 0; done < events; done += epochRows) {
        Page page = TimedView.page(epochRows);
        for (int i = 0; i < epochRows; i++) {
          long[] row = next();
          TimedView.add(page, row[0], row[1], row[2]);
        }
        nanos += view.step(page);
      }
      sink += view.changes();
    }
    return events / nanos * 1e9;
  }
}
