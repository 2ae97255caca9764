package dripledger.bench;

import java.nio.file.Path;
import java.util.List;

/**
 * The entry: {@code bench
 * [aggregation|extremes|joins|windows|times|patterns|changes|together|decision|restart|reading|delivering|pushing|serving|http|all]
 * [events in thousands] [keys in thousands] [rows an epoch]}.
 */
public final class Bench {
  private Bench() {}

  public static void main(String[] args) throws Exception {
    String what = args.length > 0 ? args[0] : "all";
    int events = (args.length > 1 ? Integer.parseInt(args[1]) : 10_000) * 1000;
    int keys = (args.length > 2 ? Integer.parseInt(args[2]) : 1_000) * 1000;
    int epochRows = args.length > 3 ? Integer.parseInt(args[3]) : 65_536;
    if (!List.of(
            "all",
            "aggregation",
            "extremes",
            "joins",
            "windows",
            "times",
            "patterns",
            "changes",
            "filling",
            "together",
            "decision",
            "restart",
            "reading",
            "delivering",
            "pushing",
            "serving",
            "http")
        .contains(what)) {
      System.err.println(
          "usage: bench [aggregation|extremes|joins|windows|times|patterns|changes|filling|together|decision|restart|reading|delivering|pushing|serving|http|all]"
              + " [events/1000] [keys/1000] [epoch rows]");
      System.exit(2);
    }
    System.out.printf(
        "Java %s, %d processors, heap %d MB, %,d events, %,d keys%n",
        System.getProperty("java.version"),
        Runtime.getRuntime().availableProcessors(),
        Runtime.getRuntime().maxMemory() >> 20,
        events,
        keys);
    if (what.equals("all") || what.equals("aggregation")) {
      new Aggregation(events, keys, epochRows).run();
    }
    if (what.equals("all") || what.equals("extremes")) {
      new Extremes(keys).run();
    }
    if (what.equals("all") || what.equals("joins")) {
      new Joins(events / 2, keys, epochRows).run();
    }
    if (what.equals("all") || what.equals("windows")) {
      new Windows(keys, epochRows).run();
    }
    if (what.equals("all") || what.equals("times")) {
      new EventTime(events / 2, keys / 100, epochRows).run();
      new TimedState(events / 4, keys, epochRows).run();
    }
    if (what.equals("all") || what.equals("patterns")) {
      new TimedPatterns(events / 4, keys / 10, epochRows).run();
    }
    if (what.equals("all") || what.equals("changes")) {
      new Changes(events).run();
    }
    if (what.equals("all") || what.equals("filling")) {
      new Filling(events).run();
    }
    if (what.equals("all") || what.equals("together")) {
      new Together(keys, epochRows).run();
    }
    if (what.equals("all") || what.equals("decision")) {
      new Decision(args.length > 1 ? events / 1000 : 15_000).run();
    }
    if (what.equals("all") || what.equals("restart")) {
      new Restart(keys).run();
    }
    if (what.equals("pushing")) {
      new Pushing(System.getenv().getOrDefault("DRIP_URL", "http://127.0.0.1:7171")).run();
    }
    if (what.equals("serving")) {
      int rounds = args.length > 1 ? Integer.parseInt(args[1]) : 6;
      int seconds = args.length > 2 ? Integer.parseInt(args[2]) : 5;
      new Serving(rounds, seconds, Path.of(System.getenv("DRIP_SERVICE_JAR"))).run();
    }
    if (what.equals("http")) {
      int rounds = args.length > 1 ? Integer.parseInt(args[1]) : 5;
      int seconds = args.length > 2 ? Integer.parseInt(args[2]) : 4;
      new Http(rounds, seconds).run();
    }
    if (what.equals("all") || what.equals("reading")) {
      new Reading(events, keys).run();
    }
    if (what.equals("all") || what.equals("delivering")) {
      new Delivering(events / 5).run();
    }
  }
}
