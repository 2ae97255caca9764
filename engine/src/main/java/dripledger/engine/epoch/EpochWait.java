package dripledger.engine.epoch;

import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ExecutionException;

/** Waiting for what the epoch loop does. Stateless. */
public final class EpochWait {
  private EpochWait() {}

  /** Waits for what {@link EpochLoop#between} answered; what was thrown there is thrown here. */
  public static long await(CompletableFuture<Long> done) {
    try {
      return done.get();
    } catch (ExecutionException e) {
      throw e.getCause() instanceof RuntimeException r
          ? r
          : new IllegalStateException(e.getCause());
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }
}
