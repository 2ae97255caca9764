package dripledger.demo;

import java.time.Duration;
import java.time.Instant;
import java.time.temporal.ChronoUnit;
import java.util.ArrayDeque;
import java.util.Comparator;
import java.util.Locale;
import java.util.PriorityQueue;
import java.util.Random;

/**
 * Seeded scan events of the hub as NDJSON lines: the same seed and times give the same lines. About
 * one in forty comes late, one in sixty twice, and one in three hundred is broken; some parcels
 * come back to the same gate again and again. Not thread-safe.
 */
public final class ScanGenerator {
  /** The hub's gates, G01 to G24. */
  public static final int GATES = 24;

  private static final int FIRST_PARCEL = 812_000;
  private static final int PARCELS = 4_000;
  private static final int SCANNERS = 36;

  private final Random random;
  private final ArrayDeque<String> again = new ArrayDeque<>();
  private final PriorityQueue<Circle> circles =
      new PriorityQueue<>(Comparator.comparing(Circle::due));
  private long made;

  /** One of so many parcels is announced and never scanned. */
  private static final int LOST = 250;

  /** One of so many scans is the first of a parcel that comes back twice. */
  private static final int CIRCLING = 700;

  private record Circle(long parcel, int gate, Instant due, int left) {}

  public ScanGenerator(long seed) {
    random = new Random(seed);
  }

  /** The next event, scanned at about {@code now}. */
  public String next(Instant now) {
    made++;
    if (!again.isEmpty() && random.nextInt(4) == 0) {
      return again.poll();
    }
    // The first is the parcel the documentation looks up.
    long parcel = made == 1 ? 812_345 : FIRST_PARCEL + random.nextInt(PARCELS);
    if (parcel % LOST == 7) {
      parcel++; // one that gets lost on its way to the hub
    }
    int gate = gate(now);
    Circle circle = circles.peek();
    boolean comesBack = circle != null && !circle.due.isAfter(now);
    if (comesBack) {
      circles.poll();
      parcel = circle.parcel;
      gate = circle.gate;
    }
    int left = comesBack ? circle.left : random.nextInt(CIRCLING) == 0 ? 2 : 0;
    if (left > 0) {
      circles.add(new Circle(parcel, gate, now.plusSeconds(60 + random.nextInt(150)), left - 1));
    }
    Instant at = now;
    if (random.nextInt(40) == 0) {
      at = now.minus(Duration.ofSeconds(5 + random.nextInt(90))); // the scanner was out of reach
    }
    String line =
        String.format(
            Locale.ROOT,
            "{\"parcel\":%d,\"gate\":\"G%02d\",\"at\":\"%s\",\"grams\":%d,\"scanner\":{\"id\":\"S-%02d\",\"battery\":%.2f}}",
            parcel,
            gate,
            at.truncatedTo(ChronoUnit.MILLIS),
            120 + (int) Math.abs(random.nextGaussian() * 1500),
            1 + random.nextInt(SCANNERS),
            0.05 + random.nextInt(95) / 100.0);
    if (random.nextInt(60) == 0) {
      again.add(line);
    }
    return random.nextInt(300) == 0 ? broken(line) : line;
  }

  /** Some gates are busier than others, and the busy ones change over the day. */
  private int gate(Instant now) {
    int shift = (int) (now.getEpochSecond() / 600 % GATES);
    double skewed = Math.pow(random.nextDouble(), 1.8);
    return 1 + (int) (skewed * GATES + shift) % GATES;
  }

  private String broken(String line) {
    return switch (random.nextInt(3)) {
      case 0 -> line.substring(0, line.length() / 2);
      case 1 -> line.replaceFirst("\"gate\":\"[^\"]*\",", "");
      default -> line.replaceFirst("\"grams\":\\d+", "\"grams\":\"heavy\"");
    };
  }
}
