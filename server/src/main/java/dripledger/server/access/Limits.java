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
    private long taken;
    private long refused;

    synchronized boolean take(long perSecond) {
      if (perSecond == 0) {
        taken++;
        return true;
      }
      long now = System.nanoTime();
      left = begun ? Math.min(perSecond, left + (now - at) / 1e9 * perSecond) : perSecond;
      begun = true;
      at = now;
      if (left < 1) {
        refused++;
        return false;
      }
      left--;
      taken++;
      return true;
    }
  }

  /** Whether somebody may ask once more now. */
  public boolean take(Caller caller) {
    return bucket(caller.role()).take(caller.bounds().perSecond());
  }

  private Bucket bucket(String role) {
    Bucket known = buckets.get(role);
    return known != null ? known : buckets.computeIfAbsent(role, r -> new Bucket());
  }

  /** How often a role was let through since the start. */
  public long taken(String role) {
    Bucket bucket = bucket(role);
    synchronized (bucket) {
      return bucket.taken;
    }
  }

  /** How often a role was told to ask less often. */
  public long refused(String role) {
    Bucket bucket = bucket(role);
    synchronized (bucket) {
      return bucket.refused;
    }
  }
}
