package dripledger.engine.checkpoint;

import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.checkpoint.CheckpointStore.SavedNode;
import dripledger.engine.checkpoint.CheckpointStore.Writer;
import dripledger.engine.checkpoint.CheckpointStore.Written;
import dripledger.engine.epoch.CheckpointImage;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.state.Durable;
import java.util.HashSet;
import java.util.Map;
import java.util.Objects;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.TimeUnit;
import java.util.function.Consumer;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Makes a checkpoint every so often if anything has changed. The epoch loop stands still only while
 * changed state is noted (copied, or just pointed at where it is immutable); encoding and writing
 * happen on this class's thread. What was noted once is written until it is there: the next notes
 * only the changes since.
 */
public final class Checkpointer implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(Checkpointer.class);
  private static final long RETRY_MILLIS = 1000;
  private static final long POSITIONS_ONLY_MILLIS = 30_000;

  private final EpochLoop loop;
  private final CheckpointStore store;
  private final long intervalMillis;
  private final Consumer<Map<Long, SourcePosition>> durable;
  private final Set<Long> saved = new HashSet<>(); // instances of nodes
  private final Thread thread = new Thread(this::run, "checkpointer");
  private CompletableFuture<Void> requested;
  private boolean closed;
  private volatile Figures figures;
  private volatile String failure;
  private volatile long loadedEpoch = -1;
  private long savedEpoch = -1;
  private long savedRows = -1;

  /**
   * How the last checkpoint went.
   *
   * @param epoch the epoch it stands for
   * @param atMillis when it was complete, in milliseconds since 1970
   * @param millis how long it took, from noting to commit
   * @param pauseMicros how long the epoch loop stood still for it
   * @param bytes what it wrote
   * @param totalBytes what recovery would read
   * @param chunks in how many chunks
   */
  public record Figures(
      long epoch,
      long atMillis,
      long millis,
      long pauseMicros,
      long bytes,
      long totalBytes,
      long chunks) {}

  /**
   * @param durable told the positions each checkpoint holds, on this class's thread
   */
  public Checkpointer(
      EpochLoop loop,
      CheckpointStore store,
      long intervalMillis,
      Consumer<Map<Long, SourcePosition>> durable) {
    this.loop = loop;
    this.store = store;
    this.intervalMillis = intervalMillis;
    this.durable = durable;
  }

  /** Says that a node's state is in the last checkpoint; before {@link #start}. */
  public void restored(long instance) {
    saved.add(instance);
  }

  /** Says which checkpoint the state was loaded from; before {@link #start}. */
  public void loaded(long epoch) {
    loadedEpoch = epoch;
  }

  /** The epoch of the checkpoint that was loaded at the start, or −1 if there was none. */
  public long loadedEpoch() {
    return loadedEpoch;
  }

  public void start() {
    thread.start();
  }

  /** The last checkpoint's figures, or null if this process has made none. */
  public Figures figures() {
    return figures;
  }

  /** Why the last try did not work, or null. */
  public String failure() {
    return failure;
  }

  /** How often checkpoints are made, in milliseconds. */
  /** Whether its thread does its work. */
  public boolean isAlive() {
    return thread.isAlive();
  }

  public long intervalMillis() {
    return intervalMillis;
  }

  /** Asks for a checkpoint now; completes when one that began after this call is there. */
  public CompletableFuture<Void> request() {
    synchronized (this) {
      if (closed) {
        return CompletableFuture.completedFuture(null);
      }
      if (requested == null) {
        requested = new CompletableFuture<>();
      }
      notifyAll();
      return requested;
    }
  }

  private void run() {
    while (true) {
      CompletableFuture<Void> asked;
      synchronized (this) {
        long end = System.nanoTime() + TimeUnit.MILLISECONDS.toNanos(intervalMillis);
        for (long left = intervalMillis; left > 0 && requested == null && !closed; ) {
          try {
            wait(left);
          } catch (InterruptedException e) {
            closed = true;
          }
          left = TimeUnit.NANOSECONDS.toMillis(end - System.nanoTime());
        }
        asked = requested;
        requested = null;
        if (closed && asked == null) {
          return;
        }
      }
      try {
        if (asked != null || due()) {
          checkpoint();
        }
        if (asked != null) {
          asked.complete(null);
        }
      } catch (RuntimeException | InterruptedException e) {
        LOG.error("no checkpoint could be made", e);
        failure = String.valueOf(e.getMessage());
        if (asked != null) {
          asked.completeExceptionally(e);
        }
      }
    }
  }

  private boolean due() {
    if (loop.snapshot().epoch() == savedEpoch) {
      return false;
    }
    boolean onlyPositions = loop.rowsTaken() == savedRows && loop.rejects().rejects().isEmpty();
    return !onlyPositions
        || figures == null
        || System.currentTimeMillis() - figures.atMillis() > POSITIONS_ONLY_MILLIS;
  }

  private void checkpoint() throws InterruptedException {
    long began = System.nanoTime();
    long rows = loop.rowsTaken();
    CheckpointImage image;
    try {
      image = loop.capture(instance -> !saved.contains(instance)).get();
    } catch (ExecutionException e) {
      saved.clear();
      throw new IllegalStateException(e.getCause());
    }
    Written written;
    try {
      written = write(image);
    } finally {
      for (CheckpointImage.Node node : image.nodes()) {
        for (Durable.Capture part : node.parts()) {
          if (part != null) {
            part.close();
          }
        }
      }
    }
    if (written == null) {
      return; // closed; the next start reads from the checkpoint before
    }
    saved.clear();
    for (CheckpointImage.Node node : image.nodes()) {
      if (node.figures() != null) {
        saved.add(node.instance());
      }
    }
    image.nodes().stream()
        .flatMap(node -> node.parts().stream())
        .filter(Objects::nonNull)
        .forEach(Durable.Capture::committed);
    loop.saved(image.settled());
    savedEpoch = image.epoch();
    savedRows = rows;
    failure = null;
    figures =
        new Figures(
            image.epoch(),
            System.currentTimeMillis(),
            TimeUnit.NANOSECONDS.toMillis(System.nanoTime() - began),
            TimeUnit.NANOSECONDS.toMicros(image.nanos()),
            written.bytes(),
            written.totalBytes(),
            written.chunks());
    durable.accept(image.settled().positions());
    tidy();
  }

  /** Merging is housekeeping: it can fail and be tried again after the next checkpoint. */
  private void tidy() {
    try {
      while (!isClosed() && store.tidy()) {
        LOG.debug("merged the chunks of one part");
      }
    } catch (RuntimeException e) {
      LOG.warn("old chunks could not be merged: {}", e.getMessage());
    }
  }

  private synchronized boolean isClosed() {
    return closed;
  }

  /** Writes until it is there; null if this is closed before. */
  private Written write(CheckpointImage image) throws InterruptedException {
    while (true) {
      try {
        return store.write(
            image.epoch(), image.sequence(), image.settled(), writer -> give(image, writer));
      } catch (RuntimeException e) {
        failure = String.valueOf(e.getMessage());
        LOG.warn("a checkpoint cannot be written, trying again: {}", e.getMessage());
        synchronized (this) {
          if (closed) {
            return null;
          }
          wait(RETRY_MILLIS);
        }
      }
    }
  }

  private void give(CheckpointImage image, Writer writer) {
    for (CheckpointImage.Node node : image.nodes()) {
      if (node.figures() == null) {
        writer.forget(node.id());
        continue;
      }
      writer.node(new SavedNode(node.id(), node.plan(), node.figures(), node.parts().size()));
      if (!saved.contains(node.instance())) {
        writer.forget(node.id());
      }
      for (int part = 0; part < node.parts().size(); part++) {
        Durable.Capture capture = node.parts().get(part);
        int number = part;
        if (capture != null) {
          capture.encode(chunk -> writer.chunk(node.id(), number, chunk));
        }
      }
    }
  }

  /** Makes a last checkpoint if the store answers, and ends. */
  @Override
  public void close() {
    CompletableFuture<Void> last;
    synchronized (this) {
      if (closed || !thread.isAlive()) {
        closed = true;
        return;
      }
      last = requested == null ? new CompletableFuture<>() : requested;
      requested = last;
      closed = true;
      notifyAll();
    }
    try {
      thread.join(20_000);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }
}
