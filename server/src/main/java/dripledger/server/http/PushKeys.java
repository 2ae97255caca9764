package dripledger.server.http;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.source.Ledger;
import java.util.List;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ConcurrentHashMap;

/**
 * The keys of pushes that may be sent again. A push is made durable in pages; each is known by the
 * push's key and its place, so that what has been taken is not taken again, and the rest is. Safe
 * from any thread.
 */
final class PushKeys {
  private static final int MOST_CHARS = 200;

  private final Set<String> underWay = ConcurrentHashMap.newKeySet();

  /**
   * Begins a push.
   *
   * @param header the value of Idempotency-Key, with quotes or without, or null
   * @return the id of it, or null if it has no key
   */
  String begin(long stream, String header) {
    if (header == null) {
      return null;
    }
    String key = header.strip();
    if (key.length() >= 2 && key.startsWith("\"") && key.endsWith("\"")) {
      key = key.substring(1, key.length() - 1);
    }
    if (key.isEmpty() || key.length() > MOST_CHARS) {
      throw new EngineException(
          Code.INVALID, "Idempotency-Key is a text of 1 to " + MOST_CHARS + " characters", null);
    }
    String id = "push/" + stream + "/" + key;
    if (!underWay.add(id)) {
      throw new EngineException(
          Code.UNAVAILABLE,
          "a push of this Idempotency-Key is still under way",
          "ask again in a moment, with the same key");
    }
    return id;
  }

  /** Ends a push; its key is free again once the outcome of everything it gave is known. */
  void end(String id, List<CompletableFuture<Ledger.Receipt>> receipts) {
    if (id != null) {
      CompletableFuture<Void> ignored =
          CompletableFuture.allOf(receipts.toArray(new CompletableFuture<?>[0]))
              .whenComplete((done, e) -> underWay.remove(id));
    }
  }
}
