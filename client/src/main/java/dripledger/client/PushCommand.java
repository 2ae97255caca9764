package dripledger.client;

import java.io.BufferedInputStream;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.InputStream;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.List;
import java.util.Map;
import java.util.UUID;
import java.util.concurrent.Callable;
import java.util.concurrent.TimeUnit;
import picocli.CommandLine.Command;
import picocli.CommandLine.Option;
import picocli.CommandLine.Parameters;
import picocli.CommandLine.ParentCommand;

@Command(
    name = "push",
    mixinStandardHelpOptions = true,
    description = {
      "Pushes events to a stream from a file or standard input: NDJSON, a JSON array, or CSV.",
      "Every part is durable before the next is sent. Broken records are listed and passed over."
    })
final class PushCommand implements Callable<Integer> {
  private static final int PART_LINES = 5_000;
  private static final int PART_BYTES = 2 << 20;

  /** How the events are written. */
  enum Format {
    ndjson,
    json,
    csv
  }

  @ParentCommand private Drip drip;

  @Parameters(index = "0", paramLabel = "STREAM")
  private String stream;

  @Parameters(index = "1", paramLabel = "FILE", description = "- reads standard input")
  private String file;

  @Option(
      names = "--format",
      description = "ndjson, json (an array) or csv; by default told by the file's name")
  private Format format;

  @Option(names = "--wait", description = "answers once the views show the events")
  private boolean wait;

  @Option(
      names = "--producer",
      paramLabel = "NUMBER",
      description = "which of several that push this is: each has a watermark of its own")
  private int producer;

  @Option(
      names = "--patience",
      paramLabel = "SECONDS",
      defaultValue = "60",
      description = "how long to try again when the service no longer answers (${DEFAULT-VALUE})")
  private int patienceSeconds;

  private final String run = UUID.randomUUID().toString();
  private int part;
  private long accepted;
  private long rejected;
  private long sentLines;
  private Object position;
  private Object epoch;
  private final long began = System.nanoTime();

  @Override
  public Integer call() throws IOException {
    Format how =
        format != null
            ? format
            : file.endsWith(".csv")
                ? Format.csv
                : file.endsWith(".json") ? Format.json : Format.ndjson;
    try (InputStream in =
        new BufferedInputStream(
            file.equals("-") ? System.in : Files.newInputStream(Path.of(file)), 1 << 16)) {
      if (how == Format.json) {
        byte[] body = in.readAllBytes();
        send(body, body.length, "application/json", 0);
      } else {
        parts(in, how);
      }
    }
    if (System.console() != null) {
      System.err.print("\r\u001b[K");
    }
    System.out.println(
        accepted
            + " accepted, "
            + rejected
            + " rejected, position "
            + position
            + (epoch == null ? "" : ", epoch " + epoch));
    return rejected > 0 ? 3 : 0;
  }

  /** Sends the lines in parts; what comes slowly is sent as soon as there is no more to read. */
  private void parts(InputStream in, Format how) throws IOException {
    String type = how == Format.csv ? "text/csv" : "application/x-ndjson";
    ByteArrayOutputStream part = new ByteArrayOutputStream(1 << 16);
    byte[] header = how == Format.csv ? line(in) : new byte[0];
    part.write(header);
    int lines = 0;
    boolean quoted = false; // a CSV record may go on in the next line
    for (byte[] line; (line = line(in)).length > 0; ) {
      part.write(line);
      lines++;
      quoted = how == Format.csv && quoted != endsQuoted(line);
      boolean enough = lines >= PART_LINES || part.size() >= PART_BYTES || in.available() == 0;
      if (enough && !quoted || part.size() >= 2 * PART_BYTES) {
        send(part.toByteArray(), part.size(), type, sentLines);
        sentLines += lines;
        lines = 0;
        part.reset();
        part.write(header);
      }
    }
    if (lines > 0 || position == null) {
      send(part.toByteArray(), part.size(), type, sentLines);
    }
  }

  private static boolean endsQuoted(byte[] line) {
    boolean quoted = false;
    for (byte b : line) {
      quoted ^= b == '"';
    }
    return quoted;
  }

  private static byte[] line(InputStream in) throws IOException {
    ByteArrayOutputStream line = new ByteArrayOutputStream(256);
    for (int b; (b = in.read()) != -1; ) {
      line.write(b);
      if (b == '\n') {
        break;
      }
    }
    return line.toByteArray();
  }

  /**
   * Sends a part, again and again while the service does not answer: it knows the part and takes it
   * once. What never answered at all is not waited for.
   */
  private Map<String, Object> sent(byte[] body, int length, String type) throws IOException {
    String path =
        "/api/v1/streams/"
            + Service.encode(stream)
            + "/events?producer="
            + producer
            + (wait ? "&wait=applied" : "");
    String key = run + "-" + part++;
    long end = System.nanoTime() + TimeUnit.SECONDS.toNanos(patienceSeconds);
    boolean begun = part > 1;
    for (boolean first = true; ; first = false) {
      try {
        return drip.service().post(path, type, body, length, key);
      } catch (IOException | Problem e) {
        begun |= !(e instanceof Problem);
        boolean passing = !(e instanceof Problem p) || p.passing();
        if (!begun || !passing || System.nanoTime() > end) {
          throw e;
        }
        if (first) {
          System.err.println("the service does not answer; sending this part again until it does");
        }
        try {
          Thread.sleep(500);
        } catch (InterruptedException interrupted) {
          Thread.currentThread().interrupt();
          throw e;
        }
      }
    }
  }

  @SuppressWarnings("unchecked")
  private void send(byte[] body, int length, String type, long before) throws IOException {
    Map<String, Object> answer = sent(body, length, type);
    accepted += ((Number) answer.get("accepted")).longValue();
    if (answer.get("repeated") instanceof Number taken) {
      accepted += taken.longValue(); // when its answer was lost
    }
    rejected += ((Number) answer.get("rejected")).longValue();
    position = answer.get("position");
    epoch = answer.get("epoch");
    boolean terminal = System.console() != null;
    if (answer.get("rejects") != null) {
      for (Map<String, Object> reject : (List<Map<String, Object>>) answer.get("rejects")) {
        long line = ((Number) reject.get("line")).longValue() + before;
        System.err.println(
            (terminal ? "\r\u001b[K" : "") + "line " + line + ": " + reject.get("reason"));
      }
    }
    if (terminal) {
      double seconds = (System.nanoTime() - began) / 1e9;
      System.err.printf(
          "\r\u001b[K%,d accepted, %,d rejected, %,.0f a second",
          accepted, rejected, accepted / seconds);
      System.err.flush();
    }
  }
}
