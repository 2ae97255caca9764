package dripledger.bench;

import dripledger.engine.row.Page;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.Iterator;
import java.util.List;
import java.util.Map;
import java.util.SplittableRandom;

/**
 * Sessions by key, and joins of two streams within a time, published every epoch, against loops by
 * hand that keep a map of the same and forget what has ended. Events are up to four seconds out of
 * order; the lateness is five seconds.
 */
final class TimedState {
  private static final int ROUNDS = 3;
  private static final long SECOND = 1_000_000L;
  private static final long LATENESS = 5 * SECOND;
  private static final long GAP = 60 * SECOND;
  private static final long WITHIN = 30 * SECOND;
  private static final int EVENTS_A_SECOND = 20_000;
  private static final String SESSIONS =
      "SELECT k, window_start, window_end, COUNT(*) AS n, SUM(v) AS s FROM TABLE(SESSION(TABLE event"
          + " PARTITION BY k, DESCRIPTOR(at), INTERVAL '1' MINUTE)) GROUP BY k, window_start, window_end";
  private static final String JOIN =
      "SELECT l.k, l.at, l.v, r.at AS r_at, r.v AS r_v FROM l JOIN r ON r.k = l.k AND r.at BETWEEN l.at"
          + " AND l.at + INTERVAL '30' SECOND";

  private final int events;
  private final int keys;
  private final int epochRows;
  private long sink;

  TimedState(int events, int keys, int epochRows) {
    this.events = events;
    this.keys = keys;
    this.epochRows = epochRows;
  }

  void run() {
    System.out.printf(
        "%nsessions and joins in time: %,d events, %,d a second, %,d keys, epochs of %,d rows%n",
        events, EVENTS_A_SECOND, keys, epochRows);
    double[] best = new double[5];
    for (int round = 0; round < ROUNDS; round++) {
      best[0] = Math.max(best[0], sessionsByHand());
      best[1] = Math.max(best[1], sessions(""));
      best[2] = Math.max(best[2], sessions(" OPTIONS (rows 'settled')"));
      best[3] = Math.max(best[3], joinByHand());
      best[4] = Math.max(best[4], join());
    }
    TimedView.print("sessions: hand-written loop", best[0], 0);
    TimedView.print("sessions: revised every epoch", best[1], best[0]);
    TimedView.print("sessions: settled", best[2], best[0]);
    TimedView.print("join within 30 seconds: hand-written loop", best[3], 0);
    TimedView.print("join within 30 seconds", best[4], best[3]);
    System.out.println(sink == 42 ? "" : " "); // so that nothing is left out
  }

  /** Events in the order they come. */
  private final class Events {
    private final SplittableRandom random = new SplittableRandom(7);
    private int number;
    long key;
    long at;
    long value;

    void next() {
      long now = number++ * SECOND / EVENTS_A_SECOND;
      key = random.nextInt(keys);
      at = 1_700_000_000_000_000L + now - random.nextLong(4 * SECOND);
      value = random.nextInt(30_000);
    }
  }

  /** A session by hand. */
  private static final class Session {
    long first;
    long last;
    long count;
    long sum;
  }

  private double sessionsByHand() {
    Events source = new Events();
    Map<Long, List<Session>> open = new HashMap<>();
    long highest = Long.MIN_VALUE;
    double nanos = 0;
    long[] rows = new long[3 * epochRows];
    for (int done = 0; done < events; done += epochRows) {
      fill(source, rows);
      long began = System.nanoTime();
      for (int i = 0; i < rows.length; i += 3) {
        highest = Math.max(highest, rows[i + 1]);
        if (rows[i + 1] + GAP > highest - LATENESS) {
          add(open.computeIfAbsent(rows[i], k -> new ArrayList<>(1)), rows[i + 1], rows[i + 2]);
        }
      }
      if (done / epochRows % 100 == 99) { // now and then is enough
        long over = highest - LATENESS - 2 * GAP;
        for (Iterator<List<Session>> each = open.values().iterator(); each.hasNext(); ) {
          List<Session> sessions = each.next();
          sessions.removeIf(s -> s.last <= over && s.sum != -1);
          if (sessions.isEmpty()) {
            each.remove();
          }
        }
      }
      nanos += System.nanoTime() - began;
    }
    sink += open.size();
    return events / nanos * 1e9;
  }

  private static void add(List<Session> sessions, long at, long value) {
    Session into = null;
    for (int i = sessions.size() - 1; i >= 0; i--) {
      Session s = sessions.get(i);
      if (at - s.last < GAP && s.first - at < GAP) {
        if (into == null) {
          into = s;
          s.first = Math.min(s.first, at);
          s.last = Math.max(s.last, at);
          s.count++;
          s.sum += value;
        } else { // it was between two
          into.first = Math.min(into.first, s.first);
          into.last = Math.max(into.last, s.last);
          into.count += s.count;
          into.sum += s.sum;
          sessions.remove(i);
        }
      }
    }
    if (into == null) {
      Session s = new Session();
      s.first = at;
      s.last = at;
      s.count = 1;
      s.sum = value;
      sessions.add(s);
    }
  }

  private void fill(Events source, long[] rows) {
    for (int i = 0; i < rows.length; i += 3) {
      source.next();
      rows[i] = source.key;
      rows[i + 1] = source.at;
      rows[i + 2] = source.value;
    }
  }

  private double sessions(String options) {
    Events source = new Events();
    double nanos = 0;
    try (TimedView view = new TimedView(LATENESS, epochRows, options, SESSIONS, List.of("event"))) {
      for (int done = 0; done < events; done += epochRows) {
        Page page = TimedView.page(epochRows);
        for (int i = 0; i < epochRows; i++) {
          source.next();
          TimedView.add(page, source.key, source.at, source.value);
        }
        nanos += view.step(page);
      }
      sink += view.changes();
    }
    return events / nanos * 1e9;
  }

  private double joinByHand() {
    Events source = new Events();
    List<Map<Long, ArrayDeque<long[]>>> sides = List.of(new HashMap<>(), new HashMap<>());
    List<ArrayDeque<long[]>> orders = List.of(new ArrayDeque<>(), new ArrayDeque<>());
    long highest = Long.MIN_VALUE;
    double nanos = 0;
    long[] rows = new long[3 * epochRows];
    for (int done = 0; done < events; done += epochRows) {
      fill(source, rows);
      long began = System.nanoTime();
      for (int i = 0; i < rows.length; i += 3) {
        int side = i < rows.length / 2 ? 0 : 1;
        long[] row = {rows[i], rows[i + 1], rows[i + 2]};
        highest = Math.max(highest, row[1]);
        ArrayDeque<long[]> others = sides.get(1 - side).get(row[0]);
        if (others != null) {
          for (long[] other : others) {
            long apart = side == 0 ? other[1] - row[1] : row[1] - other[1];
            if (apart >= 0 && apart <= WITHIN) {
              sink += other[2] ^ row[2];
            }
          }
        }
        sides.get(side).computeIfAbsent(row[0], k -> new ArrayDeque<>(4)).add(row);
        orders.get(side).add(row);
      }
      for (int side = 0; side < 2; side++) {
        long over = highest - LATENESS - 4 * SECOND - (side == 0 ? WITHIN : 0);
        ArrayDeque<long[]> order = orders.get(side);
        while (!order.isEmpty() && order.peek()[1] < over) {
          long[] row = order.poll();
          ArrayDeque<long[]> of = sides.get(side).get(row[0]);
          of.poll();
          if (of.isEmpty()) {
            sides.get(side).remove(row[0]);
          }
        }
      }
      nanos += System.nanoTime() - began;
    }
    return events / nanos * 1e9;
  }

  private double join() {
    Events source = new Events();
    double nanos = 0;
    try (TimedView view = new TimedView(LATENESS, epochRows, "", JOIN, List.of("l", "r"))) {
      for (int done = 0; done < events; done += epochRows) {
        Page[] pages = {TimedView.page(epochRows / 2), TimedView.page(epochRows / 2)};
        for (int i = 0; i < epochRows; i++) {
          source.next();
          TimedView.add(pages[2 * i / epochRows], source.key, source.at, source.value);
        }
        nanos += view.step(pages);
      }
      sink += view.changes();
    }
    return events / nanos * 1e9;
  }
}
