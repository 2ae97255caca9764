package dripledger.server.access;

import dripledger.engine.access.Caller;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;

/**
 * How often each role may ask: a second's worth at once, and as many again each second (a token
 * bucket). Safe from any thread.
 */
public final class Limits {
  private final Map<String, Bucket> buckets = new ConcurrentHashMap<>();

  private static final class Bucket {
    private double left;
    private long at = System.nanoTime();
    private boolean begun;

    synchronized boolean take(long perSecond) {
      long now = System.nanoTime();
      left = begun ? Math.min(perSecond, left + (now - at) / 1e9 * perSecond) : perSecond;
      begun = true;
      at = now;
      if (left < 1) {
        return false;
      }
      left--;
      return true;
    }
  }

  /** Whether somebody may ask once more now. */
  public boolean take(Caller caller) {
    long perSecond = caller.bounds().perSecond();
    return perSecond == 0
        || buckets.computeIfAbsent(caller.role(), role -> new Bucket()).take(perSecond);
  }
}
