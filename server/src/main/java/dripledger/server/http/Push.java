package dripledger.server.http;

import dripledger.connectors.format.BadRecord;
import dripledger.engine.Engine;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.Reject;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.TimeoutException;

/**
 * One push under way. Its records become durable in parts, in their order, each with the rejects
 * among them; so what has become of the first records is known also when a later part fails. Used
 * by one thread.
 */
final class Push {
  private static final int SHOWN_REJECTS = 100;
  private static final int REJECTS_AT_ONCE = 1000;

  private final Engine engine;
  private final CatalogObject.Stream stream;
  private final int producer;
  private final String id;
  private final LocalDateTime at;
  private final List<Part> parts = new ArrayList<>();
  private final List<BadRecord> shown = new ArrayList<>();
  private List<Reject> rejects = new ArrayList<>();

  /**
   * Records of the push.
   *
   * @param receipt null if they had been taken when the push came before
   */
  private record Part(int rows, int rejects, CompletableFuture<Ledger.Receipt> receipt) {}

  /** A push of which not everything was taken; tells what was. */
  static final class Broken extends RuntimeException {
    private static final long serialVersionUID = 1L;

    private final transient EngineException why;
    final long accepted;
    final long rejected;

    Broken(EngineException why, long accepted, long rejected) {
      super(why);
      this.why = why;
      this.accepted = accepted;
      this.rejected = rejected;
    }

    EngineException why() {
      return why;
    }
  }

  /**
   * @param id by which its parts are known if it is sent again, or null
   * @param at when it came
   */
  Push(Engine engine, CatalogObject.Stream stream, int producer, String id, LocalDateTime at) {
    this.engine = engine;
    this.stream = stream;
    this.producer = producer;
    this.id = id;
    this.at = at;
  }

  /** Takes a page of rows. */
  void rows(Page page) {
    part(page);
  }

  /** Takes a record that cannot be read. */
  void reject(BadRecord record) {
    if (shown.size() < SHOWN_REJECTS) {
      shown.add(record);
    }
    String origin = "pushed, line " + record.line();
    rejects.add(new Reject(stream.id(), at, record.reason(), null, record.bytes(), origin));
    if (rejects.size() >= REJECTS_AT_ONCE) {
      end();
    }
  }

  /** Takes what is left. */
  void end() {
    if (!rejects.isEmpty()) {
      part(new Page(new RowLayout(stream.schema())));
    }
  }

  private void part(Page page) {
    String part =
        id == null ? null : id + "/" + parts.size() + "/" + page.size() + "+" + rejects.size();
    CompletableFuture<Ledger.Receipt> receipt =
        part != null && engine.isTaken(part)
            ? null
            : engine.append(stream, page, producer, rejects, part);
    parts.add(new Part(page.size(), rejects.size(), receipt));
    rejects = new ArrayList<>();
  }

  /** What becomes durable, for who waits for all of it. */
  List<CompletableFuture<Ledger.Receipt>> receipts() {
    return parts.stream().map(Part::receipt).filter(r -> r != null).toList();
  }

  /**
   * Waits until everything is durable.
   *
   * @param failure what has ended the push early, or null
   * @param wait whether the views are to show it
   * @throws Broken if something was not taken, with what was
   */
  Map<String, Object> answer(EngineException failure, boolean wait, long waitMillis) {
    long accepted = 0;
    long rejected = 0;
    long repeated = 0;
    Ledger.Receipt last = null;
    for (Part part : parts) {
      try {
        if (part.receipt != null) {
          last = part.receipt.get(waitMillis, TimeUnit.MILLISECONDS);
          accepted += part.rows;
        } else {
          repeated += part.rows;
        }
        rejected += part.rejects;
      } catch (TimeoutException e) {
        throw broken(
            Code.UNAVAILABLE, "the database has not acknowledged them yet", accepted, rejected);
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw broken(Code.UNAVAILABLE, "the service is shutting down", accepted, rejected);
      } catch (ExecutionException e) {
        throw broken(
            Code.FAILED,
            "not all events could be made durable: " + e.getCause().getMessage(),
            accepted,
            rejected);
      }
    }
    if (failure != null) {
      throw new Broken(failure, accepted, rejected);
    }
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("accepted", accepted);
    answer.put("rejected", rejected);
    if (repeated > 0) {
      answer.put("repeated", repeated);
    }
    answer.put("position", last == null ? engine.position(stream) : last.positions()[0]);
    if (wait && last != null) {
      answer.put("epoch", engine.awaitApplied(last.sequence()));
    }
    if (!shown.isEmpty()) {
      answer.put(
          "rejects",
          shown.stream()
              .map(r -> Map.of("line", r.line(), "reason", r.reason(), "raw", r.raw()))
              .toList());
    }
    return answer;
  }

  private Broken broken(Code code, String message, long accepted, long rejected) {
    String hint =
        id == null
            ? "the first "
                + (accepted + rejected)
                + " records are settled, what became of the others shows in the stream's position;"
                + " with an Idempotency-Key a push can simply be sent again"
            : "push the same again with the same Idempotency-Key: each event is taken once";
    return new Broken(new EngineException(code, message, hint), accepted, rejected);
  }
}
