package dripledger.connectors.file;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.Connector;
import dripledger.connectors.format.AvroFiles;
import dripledger.connectors.format.CsvLines;
import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.Formats;
import dripledger.connectors.format.ParquetFiles;
import dripledger.connectors.infer.Inference;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.source.Feed;
import dripledger.engine.source.Listing;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.PartitionSink;
import dripledger.engine.source.Proposal;
import dripledger.engine.source.RawMessage;
import dripledger.engine.source.SourceSink;
import dripledger.engine.source.Target;
import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.FileSystems;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.PathMatcher;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.LongFunction;
import java.util.stream.Stream;

/** Files of a folder: NDJSON, CSV, Avro, Parquet and lines of text, once or watched. */
public final class FileConnector implements Connector {
  static final List<String> FORMATS = List.of("json", "csv", "avro", "parquet", "text");

  private static final int SAMPLE = 500;
  private static final Set<String> OPTIONS =
      Set.of(
          "files", "read", "retain", "idle_after", "operation", "before", "after", "delete_words");

  @Override
  public void check(ConnectionOptions options) {
    options.allowOnly(Set.of("path"));
    folder(options);
  }

  static Path folder(ConnectionOptions options) {
    String path = options.required("path", "'/var/spool/hub'");
    Path folder = Path.of(path);
    if (!folder.isAbsolute()) {
      throw new EngineException(
          Code.INVALID, "option \"path\" must begin with a /", "the service has no working folder");
    }
    if (!Files.isDirectory(folder)) {
      throw new EngineException(
          Code.FAILED, "option \"path\": there is no folder " + path, "make it, or check the name");
    }
    if (!Files.isReadable(folder) || !Files.isExecutable(folder)) {
      throw new EngineException(
          Code.FAILED,
          "option \"path\": the service may not read " + path,
          "give the user it runs as the right to");
    }
    return folder;
  }

  /**
   * The files of a definition, in name order. As in a shell, a name with a dot in front is only met
   * by a pattern with one: producers write such names until a file is whole.
   */
  static List<Path> files(Path folder, SourceSpec source) throws IOException {
    String pattern = source.option("files", "*");
    PathMatcher matcher = FileSystems.getDefault().getPathMatcher("glob:" + pattern);
    try (Stream<Path> all = Files.list(folder)) {
      return all.filter(f -> matcher.matches(f.getFileName()) && Files.isRegularFile(f))
          .filter(f -> pattern.startsWith(".") || !f.getFileName().toString().startsWith("."))
          .sorted()
          .toList();
    }
  }

  private static EngineException failed(IOException e) {
    return new EngineException(Code.FAILED, "the folder: " + e.getMessage(), null);
  }

  @Override
  public void prepare(ConnectionOptions options, CatalogObject.Sink sink) {
    FolderTarget.prepare(options, sink);
  }

  @Override
  public List<String> preview(
      ConnectionOptions options, CatalogObject.Sink sink, List<Outgoing.Change> changes) {
    FolderTarget.prepare(options, sink);
    return FolderTarget.preview(sink, changes);
  }

  @Override
  public Target target(ConnectionOptions options, CatalogObject.Sink sink, String identity) {
    return new FolderTarget(options, sink, identity);
  }

  @Override
  public List<Listing> list(ConnectionOptions options) {
    Path folder = folder(options);
    try (Stream<Path> all = Files.list(folder)) {
      List<Listing> listings = new ArrayList<>();
      for (Path file : all.filter(Files::isRegularFile).sorted().toList()) {
        listings.add(
            new Listing(
                file.getFileName().toString(),
                "file",
                1,
                -1,
                Files.size(file),
                -1,
                List.of(),
                Files.isReadable(file) ? null : "the service may not read it"));
      }
      return listings;
    } catch (IOException e) {
      throw failed(e);
    }
  }

  @Override
  public List<RawMessage> peek(ConnectionOptions options, String name, String from, int count) {
    Path file = folder(options).resolve(name).normalize();
    if (!file.startsWith(folder(options)) || !Files.isRegularFile(file)) {
      throw new EngineException(
          Code.NOT_FOUND, "there is no file \"" + name + "\"", "SHOW FILES FROM lists them");
    }
    List<RawMessage> messages = new ArrayList<>();
    String format =
        name.endsWith(".avro") ? "avro" : name.endsWith(".parquet") ? "parquet" : "text";
    try (FileRecords records = FileRecords.open(format, file, 0, Long.MAX_VALUE, true)) {
      while (records.next() && (from.equals("latest") || messages.size() < count)) {
        messages.add(
            new RawMessage(
                0,
                messages.size() + 1L,
                BoxedRows.timestamp(Files.getLastModifiedTime(file).toMillis() * 1000),
                null,
                Map.of(),
                records.raw()));
        if (messages.size() > 10_000) {
          messages.subList(0, 5_000).clear();
        }
      }
    } catch (IOException e) {
      throw failed(e);
    }
    return messages.subList(Math.max(0, messages.size() - count), messages.size());
  }

  /** The format of a definition, which must be one of files. */
  static String format(SourceSpec source) {
    ConnectionOptions.check(source.options().keySet(), OPTIONS, "a folder of files");
    if (source.format() == null || !FORMATS.contains(source.format())) {
      throw new EngineException(
          Code.INVALID,
          source.format() == null
              ? "the files' format is missing"
              : "files have no format \"" + source.format() + "\"",
          "there are " + FORMATS);
    }
    String read = source.option("read", "watch");
    if (!read.equals("once") && !read.equals("watch")) {
      throw new EngineException(
          Code.INVALID, "option \"read\" is 'once' or 'watch', not '" + read + "'", null);
    }
    return source.format();
  }

  @Override
  public Proposal propose(ConnectionOptions options, SourceSpec source, boolean keyed) {
    String format = format(source);
    try {
      List<Path> files = files(folder(options), source);
      if (files.isEmpty()) {
        return new Proposal(List.of(), null, List.of(), 0, 0);
      }
      Inference inference = new Inference(format.equals("csv"));
      List<Column> declared = null;
      if (format.equals("avro") || format.equals("parquet")) {
        declared =
            format.equals("avro")
                ? AvroFiles.columns(files.get(0))
                : ParquetFiles.columns(files.get(0));
      }
      int left = SAMPLE;
      for (int i = files.size() - 1; i >= 0 && left > 0; i--) {
        left -= sample(format, files.get(i), left, inference);
      }
      return inference.proposal(keyed).withColumns(declared);
    } catch (IOException e) {
      throw failed(e);
    }
  }

  private static int sample(String format, Path file, int most, Inference inference)
      throws IOException {
    int read = 0;
    String lines = format.equals("csv") ? "text" : format;
    List<String> header = null;
    try (FileRecords records = FileRecords.open(lines, file, 0, Long.MAX_VALUE, true)) {
      while (read < most && records.next()) {
        try {
          if (records instanceof FileRecords.Values values) {
            inference.add(values.current(), null);
          } else if (format.equals("csv")) {
            List<String> fields =
                CsvLines.record(new String(records.raw(), StandardCharsets.UTF_8));
            if (header == null) {
              header = fields;
              continue;
            }
            Map<String, Object> row = new LinkedHashMap<>();
            for (int i = 0; i < header.size() && i < fields.size(); i++) {
              row.put(header.get(i).strip(), fields.get(i).isEmpty() ? null : fields.get(i));
            }
            inference.add(row, null);
          } else if (format.equals("text")) {
            inference.add(Map.of("body", new String(records.raw(), StandardCharsets.UTF_8)), null);
          } else {
            inference.add(Formats.jsonObject(records.raw()), null);
          }
        } catch (FormatException e) {
          inference.unread();
        }
        read++;
      }
    }
    return read;
  }

  @Override
  public SourcePosition begin(ConnectionOptions options, CatalogObject object) {
    SourceSpec source = CatalogObject.sourceOf(object);
    format(source);
    folder(options);
    FileReader.of(object, null); // tells what is wrong with the format
    return new FilePosition().toPosition();
  }

  @Override
  public Feed open(
      ConnectionOptions options,
      List<CatalogObject> objects,
      SourcePosition from,
      SourceSink sink,
      LongFunction<DriftLog> drift) {
    CatalogObject object = objects.get(0);
    return new FileFeed(options, object, new FilePosition(from), sink, drift.apply(object.id()));
  }

  /** What a stream has read of files that are gone or others since, nobody can read again. */
  private static void refuseUnread(FilePosition end, List<Folder.Found> files) {
    Map<String, FilePosition.Place> left = end.places();
    for (Folder.Found f : files) {
      if (f.amiss() != null) {
        throw new EngineException(
            Code.FAILED, f.amiss() + ", so what it held cannot be read again", null);
      }
      left.values().remove(f.place());
    }
    if (!left.isEmpty()) {
      throw new EngineException(
          Code.FAILED,
          "file " + left.keySet().iterator().next() + " was read and is no longer there",
          "try again: what is gone is left out then; a stream with retain keeps what it has read");
    }
  }

  @Override
  public List<Object[]> again(
      ConnectionOptions options, CatalogObject.Stream stream, int partition, Page messages) {
    return FileReader.of(stream, null).again(partition, messages);
  }

  @Override
  public void read(
      ConnectionOptions options,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to,
      Page template,
      PartitionSink sink) {
    FileReader reader = FileReader.of(stream, null);
    FilePosition start = new FilePosition(from);
    try {
      FilePosition end = new FilePosition(to);
      List<Folder.Found> files =
          Folder.find(files(folder(options), stream.source()), end, file -> false);
      refuseUnread(end, files);
      for (Folder.Found f : files) {
        FilePosition.Place before = start.of(f.name());
        long begin = before == null ? 0 : before.at();
        if (begin < f.place().at()) {
          reader.read(
              f.file(),
              begin,
              f.place().at(),
              true,
              (batch, position) -> {
                sink.page(batch.page(), 0);
                return true;
              });
        }
      }
    } catch (IOException e) {
      throw failed(e);
    }
  }
}
