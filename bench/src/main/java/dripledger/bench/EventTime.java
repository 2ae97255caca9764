package dripledger.bench;

import dripledger.engine.row.Page;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.SplittableRandom;

/**
 * Windows of event time, published every epoch, against a loop by hand that keeps a map a window,
 * leaves late events out and drops a window that has ended. Events are up to eight seconds out of
 * order, one in a thousand up to a minute; the lateness is ten seconds.
 */
final class EventTime {
  private static final int ROUNDS = 3;
  private static final long MINUTE = 60_000_000L;
  private static final long LATENESS = 10_000_000L;
  private static final int EVENTS_A_SECOND = 10_000;
  private static final String COUNT =
      "SELECT window_start, window_end, k, COUNT(*) AS n, SUM(v) AS s ";
  private static final String GROUP = " GROUP BY window_start, window_end, k";
  private static final String TUMBLE =
      COUNT + "FROM TABLE(TUMBLE(TABLE event, DESCRIPTOR(at), INTERVAL '1' MINUTE))" + GROUP;
  private static final String HOP =
      COUNT
          + "FROM TABLE(HOP(TABLE event, DESCRIPTOR(at), INTERVAL '12' SECOND, INTERVAL '1' MINUTE))"
          + GROUP;

  private static final String PANES =
      COUNT
          + "FROM TABLE(HOP(TABLE event, DESCRIPTOR(at), INTERVAL '1' SECOND, INTERVAL '1' MINUTE))"
          + GROUP;
  private static final int FEWER = 10; // events of 60 windows each
  private static final int FEW_KEYS = 100;

  private final int events;
  private final int keys;
  private final int epochRows;
  private long sink;

  EventTime(int events, int keys, int epochRows) {
    this.events = events;
    this.keys = keys;
    this.epochRows = epochRows;
  }

  void run() {
    System.out.printf(
        "%nwindows of event time: %,d events, %,d a second, %,d keys, epochs of %,d rows%n",
        events, EVENTS_A_SECOND, keys, epochRows);
    double[] best = new double[14];
    for (int round = 0; round < ROUNDS; round++) {
      best[0] = Math.max(best[0], byHand(MINUTE));
      best[1] = Math.max(best[1], rate("", TUMBLE));
      best[2] = Math.max(best[2], rate(" OPTIONS (rows 'settled')", TUMBLE));
      best[3] = Math.max(best[3], byHand(MINUTE / 5));
      best[4] = Math.max(best[4], rate("", HOP));
      best[5] = Math.max(best[5], rate(" OPTIONS (rows 'settled')", HOP));
      new EventTime(events / FEWER, keys, epochRows).panes(best, 6);
      new EventTime(events / FEWER, FEW_KEYS, epochRows).panes(best, 10);
    }
    TimedView.print("windows of a minute: hand-written loop", best[0], 0);
    TimedView.print("windows of a minute: revised every epoch", best[1], best[0]);
    TimedView.print("windows of a minute: settled", best[2], best[0]);
    TimedView.print("five overlapping windows: hand-written loop", best[3], 0);
    TimedView.print("five overlapping windows: revised every epoch", best[4], best[3]);
    TimedView.print("five overlapping windows: settled", best[5], best[3]);
    printPanes("60 overlapping windows", best, 6);
    printPanes("60 of " + FEW_KEYS + " keys", best, 10);
    System.out.println(sink == 42 ? "" : " "); // so that nothing is left out
  }

  private void panes(double[] best, int first) {
    best[first] = Math.max(best[first], byHand(MINUTE / 60));
    best[first + 1] = Math.max(best[first + 1], byHandInSlices(MINUTE / 60));
    best[first + 2] = Math.max(best[first + 2], rate("", PANES));
    best[first + 3] = Math.max(best[first + 3], rate(" OPTIONS (rows 'settled')", PANES));
  }

  private static void printPanes(String what, double[] best, int first) {
    TimedView.print(what + ": hand-written loop", best[first], 0);
    TimedView.print(what + ": the same by slices", best[first + 1], best[first]);
    TimedView.print(what + ": revised every epoch", best[first + 2], best[first]);
    TimedView.print(what + ": settled", best[first + 3], best[first]);
  }

  /** Events in the order they come. */
  private final class Events {
    private final SplittableRandom random = new SplittableRandom(5);
    private int number;
    long key;
    long at;
    long value;

    void next() {
      long now = number++ * 1_000_000L / EVENTS_A_SECOND;
      int behind = random.nextInt(1000) == 0 ? 60_000_000 : 8_000_000;
      key = random.nextInt(keys);
      at = 1_700_000_000_000_000L + now - random.nextInt(behind);
      value = random.nextInt(30_000);
    }
  }

  private void fill(Events source, long[] rows) {
    for (int i = 0; i < epochRows; i++) {
      source.next();
      rows[3 * i] = source.key;
      rows[3 * i + 1] = source.at;
      rows[3 * i + 2] = source.value;
    }
  }

  /** One round by hand: events a second. */
  private double byHand(long slide) {
    Events source = new Events();
    Map<Long, HandWritten> windows = new HashMap<>();
    long highest = Long.MIN_VALUE;
    long[] rows = new long[3 * epochRows];
    double nanos = 0;
    for (int done = 0; done < events; done += epochRows) {
      fill(source, rows);
      long began = System.nanoTime();
      for (int i = 0; i < rows.length; i += 3) {
        long at = rows[i + 1];
        highest = Math.max(highest, at);
        long last = at - Math.floorMod(at, slide);
        for (long from = last; from > at - MINUTE; from -= slide) {
          if (from + MINUTE > highest - LATENESS) {
            windows.computeIfAbsent(from, w -> new HandWritten()).add(rows[i], rows[i + 2]);
          }
        }
      }
      long over = highest - LATENESS - MINUTE;
      windows.entrySet().removeIf(w -> w.getKey() <= over && w.getValue().sum(1) != -1);
      nanos += System.nanoTime() - began;
    }
    sink += windows.size();
    return events / nanos * 1e9;
  }

  /** As above, where what an epoch brings for a slice of all windows is added up before. */
  private double byHandInSlices(long slide) {
    Events source = new Events();
    Map<Long, HandWritten> windows = new HashMap<>();
    long highest = Long.MIN_VALUE;
    long[] rows = new long[3 * epochRows];
    double nanos = 0;
    for (int done = 0; done < events; done += epochRows) {
      fill(source, rows);
      long began = System.nanoTime();
      Map<Long, HandWritten> slices = new HashMap<>();
      for (int i = 0; i < rows.length; i += 3) {
        long at = rows[i + 1];
        highest = Math.max(highest, at);
        long slice = at - Math.floorMod(at, slide);
        if (slice + slide > highest - LATENESS) {
          slices.computeIfAbsent(slice, s -> new HandWritten()).add(rows[i], rows[i + 2]);
        } else {
          for (long from = slice;
              from + MINUTE > highest - LATENESS && from > at - MINUTE;
              from -= slide) {
            windows.computeIfAbsent(from, w -> new HandWritten()).add(rows[i], rows[i + 2]);
          }
        }
      }
      for (Map.Entry<Long, HandWritten> slice : slices.entrySet()) {
        for (long from = slice.getKey(); from > slice.getKey() - MINUTE; from -= slide) {
          windows.computeIfAbsent(from, w -> new HandWritten()).addAll(slice.getValue());
        }
      }
      long over = highest - LATENESS - MINUTE;
      windows.entrySet().removeIf(w -> w.getKey() <= over && w.getValue().sum(1) != -1);
      nanos += System.nanoTime() - began;
    }
    sink += windows.size();
    return events / nanos * 1e9;
  }

  /** One round of a view: events a second. */
  private double rate(String options, String query) {
    try (TimedView view = new TimedView(LATENESS, epochRows, options, query, List.of("event"))) {
      Events source = new Events();
      double nanos = 0;
      for (int done = 0; done < events; done += epochRows) {
        Page page = TimedView.page(epochRows);
        for (int i = 0; i < epochRows; i++) {
          source.next();
          TimedView.add(page, source.key, source.at, source.value);
        }
        nanos += view.step(page);
      }
      sink += view.changes();
      return events / nanos * 1e9;
    }
  }
}
