package dripledger.connectors.file;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.format.RowFile;
import dripledger.connectors.format.RowMessages;
import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.Target;
import java.io.IOException;
import java.nio.channels.FileChannel;
import java.nio.charset.StandardCharsets;
import java.nio.file.FileAlreadyExistsException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardCopyOption;
import java.nio.file.StandardOpenOption;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import java.util.Set;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import java.util.stream.Stream;

/**
 * Delivers into a folder: each step is a file, which is written under a name with a dot in front,
 * forced to the disk and then given its own name, {@code sink-identity-from-to-eFIRST-eLAST}. The
 * highest number among the names says what has arrived.
 */
final class FolderTarget implements Target {
  private static final Set<String> OPTIONS = Set.of("files", "file_rows", "file_mb");
  private static final int MOST_ROWS = 10_000_000;
  private static final int MOST_MEGABYTES = 4096;
  private static final int IDENTITY = 8; // characters of it

  private final Path folder;
  private final Sink sink;
  private final String prefix;
  private final String suffix;
  private final RowMessages messages;

  FolderTarget(ConnectionOptions options, Sink sink, String identity) {
    folder = FileConnector.folder(options);
    this.sink = sink;
    messages = new RowMessages(sink);
    suffix = "." + (messages.format().equals("json") ? "ndjson" : messages.format());
    String name = sink.target().option("files", sink.name());
    prefix = name + "-" + identity.substring(0, IDENTITY) + "-";
  }

  /** Refuses options that mean nothing, and a folder that cannot be written. */
  static void prepare(ConnectionOptions options, Sink sink) {
    ConnectionOptions.check(
        sink.target().options().keySet(), OPTIONS, "a folder that is delivered to");
    new RowMessages(sink); // tells what is wrong with the format
    fileRows(sink);
    fileMegabytes(sink);
    String files = sink.target().option("files");
    if (files != null && !files.matches("[A-Za-z0-9_][A-Za-z0-9_.-]*")) {
      throw new EngineException(
          Code.INVALID,
          "option \"files\": names cannot begin with '" + files + "'",
          "letters, digits, _ . and - are allowed");
    }
    Path folder = FileConnector.folder(options);
    if (!Files.isWritable(folder)) {
      throw new EngineException(
          Code.FAILED,
          "option \"path\": the service may not write to " + folder,
          "give the user it runs as the right to");
    }
  }

  private static int fileRows(Sink sink) {
    return ConnectionOptions.count(sink.target(), "file_rows", 100_000, MOST_ROWS);
  }

  private static int fileMegabytes(Sink sink) {
    return ConnectionOptions.count(sink.target(), "file_mb", 128, MOST_MEGABYTES);
  }

  /** The first lines. */
  static List<String> preview(Sink sink, List<Outgoing.Change> changes) {
    RowMessages messages = new RowMessages(sink);
    List<String> lines = new ArrayList<>();
    if (messages.isCsv()) {
      lines.add(new String(messages.header(), StandardCharsets.UTF_8));
    }
    for (Outgoing.Change change : changes) {
      lines.add(
          new String(messages.line(change, 0), StandardCharsets.UTF_8)); // as JSON, if not CSV
    }
    return lines;
  }

  @Override
  public int mostRows() {
    return fileRows(sink);
  }

  @Override
  public long mostBytes() {
    return (long) fileMegabytes(sink) << 20;
  }

  @Override
  public long next() {
    Pattern name =
        Pattern.compile(Pattern.quote(prefix) + "\\d+-(\\d+)-e\\d+-e\\d+" + Pattern.quote(suffix));
    long next = -1;
    try (Stream<Path> all = Files.list(folder)) {
      for (Path file : all.toList()) {
        if (file.getFileName().toString().startsWith("." + prefix)) {
          Files.deleteIfExists(file); // of one that did not get to its end
        }
        Matcher matcher = name.matcher(file.getFileName().toString());
        if (matcher.matches()) {
          next = Math.max(next, Long.parseLong(matcher.group(1)) + 1);
        }
      }
    } catch (IOException e) {
      throw failed(e);
    }
    return next;
  }

  @Override
  public Carried carry(List<Outgoing> batches) {
    Outgoing first = batches.get(0);
    Outgoing last = batches.get(batches.size() - 1);
    String name =
        String.format(
            Locale.ROOT,
            "%s%012d-%012d-e%d-e%d%s",
            prefix,
            first.number(),
            last.number(),
            first.epoch(),
            last.epoch(),
            suffix);
    Path aside = folder.resolve("." + name);
    Path whole = folder.resolve(name);
    long rows = 0;
    try {
      try (RowFile file = RowFile.create(aside, messages)) {
        for (Outgoing batch : batches) {
          for (Outgoing.Change change : batch.changes()) {
            file.write(change, batch.epoch());
            rows++;
          }
        }
      }
      try (FileChannel channel = FileChannel.open(aside, StandardOpenOption.WRITE)) {
        channel.force(true);
      }
      if (Files.exists(whole)) {
        throw new FileAlreadyExistsException(whole.toString());
      }
      Files.move(aside, whole, StandardCopyOption.ATOMIC_MOVE);
      try (FileChannel directory = FileChannel.open(folder)) {
        directory.force(true);
      }
    } catch (IOException e) {
      try {
        Files.deleteIfExists(aside); // it may be what fills the disk
      } catch (IOException again) {
        e.addSuppressed(again);
      }
      throw failed(e);
    }
    return new Carried(rows, 0, 0, 0);
  }

  private EngineException failed(IOException e) {
    return new EngineException(Code.FAILED, folder + ": " + e.getMessage());
  }

  @Override
  public void close() {}
}
