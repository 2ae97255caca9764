package dripledger.connectors.file;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.TroubleLog;
import dripledger.connectors.file.FilePosition.Place;
import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.FormatException;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.source.Feed;
import dripledger.engine.source.FeedStatus;
import dripledger.engine.source.SourceSink;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.attribute.BasicFileAttributes;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
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
  private final boolean text;
  private final Map<String, Look> looks = new HashMap<>();
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
    text = !List.of("avro", "parquet").contains(source.format());
    once = source.option("read", "watch").equals("once");
    reader = FileReader.of(object, drift);
    troubles = new TroubleLog(LOG, object.name());
    thread = new Thread(this::run, "feed-" + object.name());
    thread.start();
  }

  private void run() {
    while (!closed) {
      try {
        String amiss = readAll();
        if (amiss == null) {
          troubles.over();
        } else {
          troubles.tell(amiss);
        }
        state = amiss == null ? "reading" : "waiting";
        reason = amiss;
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

  /** How a file was when it was read to its end: while it stays so there is nothing to read. */
  private record Look(String key, long size, long changedMillis) {
    static Look at(Path file) throws IOException {
      BasicFileAttributes a = Files.readAttributes(file, BasicFileAttributes.class);
      return new Look(String.valueOf(a.fileKey()), a.size(), a.lastModifiedTime().toMillis());
    }
  }

  /**
   * Reads what is new.
   *
   * @return what is wrong with a file, for the user, or null; the others have been read
   */
  private String readAll() throws IOException, InterruptedException {
    Path folder = FileConnector.folder(options);
    List<Path> files = FileConnector.files(folder, source);
    Map<String, Look> now = new HashMap<>();
    for (Path file : files) {
      now.put(file.getFileName().toString(), Look.at(file));
    }
    if (now.equals(looks)) {
      behind = 0;
      return null; // what is amiss with a file keeps it out of what was looked at
    }
    List<Folder.Found> found =
        Folder.find(
            files,
            position,
            file -> {
              String name = file.getFileName().toString();
              return now.get(name).equals(looks.get(name));
            });
    int known = position.places().size();
    position.become(Folder.places(found));
    if (position.places().size() < known) {
      sink.submit(List.of(), position.toPosition(), null);
    }
    looks.keySet().retainAll(now.keySet());
    String amiss = null;
    long left = 0;
    for (Folder.Found f : found) {
      Look look = now.get(f.name());
      if (closed || look.equals(looks.get(f.name()))) {
        continue;
      }
      String why = f.amiss();
      if (why == null) {
        left += text ? look.size() - f.place().at() : look.size();
        behind = left;
        why = read(f, look);
      }
      if (why == null) {
        if (isRead(f.name(), look)) {
          looks.put(f.name(), look);
        }
      } else {
        amiss = why;
      }
    }
    behind = 0;
    return amiss == null ? null : amiss + "; the other files are read on";
  }

  /** Whether there is nothing more to have of a file while it stays as it is. */
  private boolean isRead(String name, Look look) {
    Place place = position.of(name);
    return !text
        || place != null && place.at() >= look.size()
        || System.currentTimeMillis() - look.changedMillis() > 2 * FileRecords.SETTLED_MILLIS;
  }

  /** Reads one file on; answers what is wrong with it, or null. */
  private String read(Folder.Found found, Look look) throws IOException, InterruptedException {
    if (text && look.size() <= found.place().at()) {
      return null;
    }
    String name = found.name();
    long[] at = {found.place().at()};
    try {
      reader.read(
          found.file(),
          at[0],
          Long.MAX_VALUE,
          once,
          (batch, to) -> {
            Place before = position.of(name);
            position.put(name, new Place(to, FilePrint.of(found.file(), text ? to : look.size())));
            try {
              sink.submit(List.of(batch), position.toPosition(), null);
            } catch (InterruptedException e) {
              closed = true;
            } catch (RuntimeException e) {
              position.put(name, before == null ? new Place(0, null) : before); // it is read again
              throw e;
            }
            messages += batch.page().size() + batch.rejects().size();
            bytes += text ? to - at[0] : batch.page().byteSize();
            at[0] = to;
            return !closed && !Thread.currentThread().isInterrupted();
          });
      return null;
    } catch (FormatException e) {
      return "file " + name + ": " + e.getMessage();
    }
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
