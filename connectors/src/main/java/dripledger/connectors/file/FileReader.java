package dripledger.connectors.file;

import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.FormatException;
import dripledger.connectors.message.Kept;
import dripledger.connectors.message.Message;
import dripledger.connectors.message.MessageReader;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.KeptMessages;
import dripledger.engine.source.Reject;
import dripledger.engine.source.SourceBatch;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;

/** Reads files of one definition into batches. Not thread-safe. */
final class FileReader {
  private static final int BATCH_ROWS = 5000;

  private final CatalogObject object;
  private final String format;
  private final MessageReader reader;
  private final RowLayout layout;
  private final boolean retained;
  private final Message message = new Message();

  /** Takes a batch and where it ends; answers whether to go on. */
  @FunctionalInterface
  interface BatchSink {
    boolean batch(SourceBatch batch, long position) throws IOException;
  }

  private FileReader(CatalogObject object, DriftLog drift) {
    this.object = object;
    if (drift != null) {
      drift.at(this::origin);
    }
    format = FileConnector.format(CatalogObject.sourceOf(object));
    retained = isKept(object, format);
    reader = MessageReader.ofFiles(object, drift);
    layout = new RowLayout(reader.pageSchema());
    if (object instanceof CatalogObject.Stream s && !s.addedAt().isEmpty()) {
      Map<Integer, FilePosition> added = new HashMap<>();
      s.addedAt().forEach((column, position) -> added.put(column, new FilePosition(position)));
      reader.before(
          (m, column) -> m.position <= readThen(added.get(column), m.headers.get("file")));
    }
  }

  /** Whether events of a format are kept with their messages: where each is a line by itself. */
  private static boolean isKept(CatalogObject object, String format) {
    return object instanceof CatalogObject.Stream s
        && s.inLedger()
        && (format.equals("json") || format.equals("text"));
  }

  /** Reads kept messages again. */
  List<Object[]> again(int partition, Page messages) {
    if (!retained) {
      throw new EngineException(
          EngineException.Code.INVALID,
          "events of " + format + " files are kept without their messages",
          "leave WITH REPLAY out: the column is NULL in events from before");
    }
    return Kept.again(reader, partition, messages);
  }

  private static long readThen(FilePosition position, String file) {
    FilePosition.Place place = position.of(file);
    return place == null ? 0 : place.at();
  }

  static FileReader of(CatalogObject object, DriftLog drift) {
    return new FileReader(object, drift);
  }

  private String origin() {
    return message.headers.get("file") + " before " + message.position;
  }

  /** Reads what is there of a file between two places. */
  void read(Path file, long from, long to, boolean ended, BatchSink sink) throws IOException {
    String name = file.getFileName().toString();
    message.headers = Map.of("file", name);
    message.timeMillis = Files.getLastModifiedTime(file).toMillis();
    Page page = new Page(layout);
    Page messages = retained ? new Page(KeptMessages.LAYOUT) : null;
    List<Reject> rejects = new ArrayList<>();
    try (FileRecords records = FileRecords.open(format, file, from, to, ended)) {
      records.check(reader);
      long position = from;
      while (records.next()) {
        position = records.position();
        message.position = position;
        try {
          records.read(reader, message, page);
          if (retained) {
            Kept.keep(message, messages);
          }
        } catch (FormatException e) {
          rejects.add(
              new Reject(
                  object.id(),
                  LocalDateTime.now(ZoneOffset.UTC),
                  e.getMessage(),
                  null,
                  records.raw(),
                  origin()));
        }
        if (page.size() + rejects.size() >= BATCH_ROWS) {
          if (!sink.batch(
              new SourceBatch(object.id(), page, 0, rejects, null, messages), position)) {
            return;
          }
          page = new Page(layout);
          messages = retained ? new Page(KeptMessages.LAYOUT) : null;
          rejects = new ArrayList<>();
        }
      }
      if (!page.isEmpty() || !rejects.isEmpty()) {
        sink.batch(new SourceBatch(object.id(), page, 0, rejects, null, messages), position);
      }
    }
  }
}
