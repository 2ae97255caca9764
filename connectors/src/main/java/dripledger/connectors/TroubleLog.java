package dripledger.connectors;

import java.util.concurrent.TimeUnit;
import org.slf4j.Logger;

/**
 * Writes into the log why a source cannot be read: when the reason is new, and once a minute while
 * it lasts. For one thread.
 */
public final class TroubleLog {
  private static final long AGAIN_NANOS = TimeUnit.MINUTES.toNanos(1);

  private final Logger log;
  private final String name;
  private String told;
  private long toldAt;

  public TroubleLog(Logger log, String name) {
    this.log = log;
    this.name = name;
  }

  /** The source cannot be read and is tried again. */
  public void tell(String reason) {
    long now = System.nanoTime();
    if (!reason.equals(told) || now - toldAt > AGAIN_NANOS) {
      log.warn("{} cannot be read, trying again: {}", name, reason);
      told = reason;
      toldAt = now;
    }
  }

  /** The source can be read. */
  public void over() {
    if (told != null) {
      log.info("{} is read again", name);
      told = null;
    }
  }
}
