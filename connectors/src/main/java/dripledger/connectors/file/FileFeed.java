package dripledger.connectors.file;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.TroubleLog;
import dripledger.connectors.format.DriftLog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.source.Feed;
import dripledger.engine.source.FeedStatus;
import dripledger.engine.source.SourceSink;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Reads the files of a folder in name order on a thread of its own: once, or again and again what
 * is new, also at the end of files that grow. Of text only whole lines are taken while a file may
 * grow.
 */
final class FileFeed implements Feed {
  private static final Logger LOG = LoggerFactory.getLogger(FileFeed.class);
  private static final long LOOK_MILLIS = 500;

  private final ConnectionOptions options;
  private final SourceSpec source;
  private final FilePosition position;
  private final SourceSink sink;
  private final FileReader reader;
  private final boolean once;
  private final Set<String> finished = new HashSet<>();
  private final TroubleLog troubles;
  private final Thread thread;
  private volatile boolean closed;
  private volatile String state = "reading";
  private volatile String reason;
  private volatile long messages;
  private volatile long bytes;
  private volatile long behind = -1;

  FileFeed(
      ConnectionOptions options,
      CatalogObject object,
      FilePosition from,
      SourceSink sink,
      DriftLog drift) {
    this.options = options;
    this.sink = sink;
    position = from;
    source = CatalogObject.sourceOf(object);
    once = source.option("read", "watch").equals("once");
    reader = FileReader.of(object, drift);
    troubles = new TroubleLog(LOG, object.name());
    thread = new Thread(this::run, "feed-" + object.name());
    thread.start();
  }

  private void run() {
    while (!closed) {
      try {
        readAll();
        troubles.over();
        state = "reading";
        reason = null;
        if (once) {
          return;
        }
        Thread.sleep(LOOK_MILLIS);
      } catch (InterruptedException e) {
        return;
      } catch (IOException | RuntimeException e) {
        state = "waiting";
        reason = e instanceof EngineException ? e.getMessage() : "the folder: " + e.getMessage();
        troubles.tell(reason);
        try {
          Thread.sleep(LOOK_MILLIS * 4);
        } catch (InterruptedException interrupted) {
          return;
        }
      }
    }
  }

  private void readAll() throws IOException, InterruptedException {
    List<Path> files = FileConnector.files(FileConnector.folder(options), source);
    long left = 0;
    boolean text = !List.of("avro", "parquet").contains(source.format());
    for (Path file : files) {
      String name = file.getFileName().toString();
      long from = position.read().getOrDefault(name, 0L);
      long size = Files.size(file);
      if (text && size < from) {
        throw new EngineException(
            EngineException.Code.FAILED,
            "file " + name + " is shorter than what was read of it: it was changed, not added to",
            null);
      }
      // Of records, only their end says that there are no more; a restart looks once again.
      boolean done = text ? size <= from : finished.contains(name);
      if (done || closed) {
        continue;
      }
      left += text ? size - from : size;
      behind = left;
      reader.read(
          file,
          from,
          Long.MAX_VALUE,
          once,
          (batch, at) -> {
            Long before = position.read().put(name, at);
            try {
              sink.submit(List.of(batch), position.toPosition(), null);
            } catch (InterruptedException e) {
              closed = true;
            } catch (RuntimeException e) {
              position.read().put(name, before == null ? 0 : before); // it is read again
              throw e;
            }
            messages += batch.page().size() + batch.rejects().size();
            bytes += text ? at - from : batch.page().byteSize();
            return !closed && !Thread.currentThread().isInterrupted();
          });
      if (!closed) {
        finished.add(name);
      }
    }
    behind = 0;
  }

  @Override
  public FeedStatus status() {
    return new FeedStatus(state, reason, messages, bytes, behind, "bytes", Map.of());
  }

  @Override
  public void close() {
    closed = true;
    thread.interrupt();
    try {
      thread.join(10_000);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }
}
