package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.ByteArrayOutputStream;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.net.InetSocketAddress;
import java.net.Socket;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import java.util.concurrent.TimeUnit;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;

/**
 * Both ports under what nobody should send: random bytes, broken messages, broken statements,
 * hostile JSON, clients that stand still, more connections than there are places. The service
 * answers or hangs up, never makes a mistake of its own, and is afterwards what it was. {@code
 * -Ddrip.fuzz.seconds=600} makes it long; {@code -Ddrip.seed=N} repeats a run.
 */
class FuzzTest {
  private static final int SECONDS = Integer.getInteger("drip.fuzz.seconds", 30);
  private static final int CROWD = Integer.getInteger("drip.fuzz.crowd", 5000);
  private static final String MISTAKE = "the service made a mistake";

  private static final List<String> STATEMENTS =
      List.of(
          "SELECT hall, COUNT(*) AS n FROM gate WHERE gate > 'G03' GROUP BY hall ORDER BY n DESC LIMIT 3",
          "SELECT g.gate, l.scans FROM gate g LEFT JOIN gate_load l ON g.gate = l.gate AND l.scans > 1.5e3",
          "WITH a AS (SELECT gate FROM gate) SELECT * FROM a WHERE gate IN (SELECT gate FROM gate_load)",
          "INSERT INTO gate VALUES ('X1', 'North', 7), ('X2', NULL, CAST('8' AS INTEGER))",
          "UPDATE gate SET hall = UPPER(hall) || 'x' WHERE gate LIKE 'X%' ESCAPE '!'",
          "DELETE FROM gate WHERE gate = 'X1' OR capacity_per_minute / 2 >= 10",
          "SELECT CASE WHEN hall IS NULL THEN 'none' ELSE SUBSTRING(hall FROM 1 FOR 2) END FROM gate",
          "SELECT ROW_NUMBER() OVER (PARTITION BY hall ORDER BY gate ROWS 2 PRECEDING) FROM gate",
          "SELECT date_trunc('hour', TIMESTAMP '2026-03-02 06:14:09') + INTERVAL '1' DAY",
          "SELECT ARRAY[1, 2, NULL][2], '{\"a\": [1]}' -> 'a', 'a' ~ '^[a-z]+$'",
          "COPY (SELECT gate FROM gate) TO STDOUT WITH (FORMAT csv, HEADER, DELIMITER ';')",
          "DECLARE c CURSOR FOR SELECT gate FROM gate; FETCH 3 FROM c; CLOSE c",
          "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SELECT 1; COMMIT",
          "SET statement_timeout TO '5s'; SHOW TIME ZONE; RESET ALL",
          "SELECT c.relname, pg_catalog.format_type(a.atttypid, a.atttypmod) FROM pg_catalog.pg_class c"
              + " JOIN pg_catalog.pg_attribute a ON a.attrelid = c.oid WHERE c.relname ~ '^(gate)$'",
          "EXPLAIN SELECT gate FROM gate WHERE gate = 'G01'",
          "CREATE VIEW fuzzed AS SELECT gate FROM gate; DROP VIEW fuzzed",
          "DESCRIBE gate_load; SHOW VIEWS; SELECT * FROM drip.activity");

  private static final List<String> BODIES =
      List.of(
          "{\"sql\": \"SELECT gate FROM gate WHERE gate = :g\", \"args\": {\"g\": \"G01\"}}",
          "{\"sql\": \"SELECT :n + 1\", \"args\": {\"n\": 1e400}}",
          "{\"sql\": \"SELECT :n\", \"args\": {\"n\": {\"y\": [1, {\"z\": null}]}}}",
          "{\"sql\": \"SELECT :n\", \"args\": {\"n\": [1, \"a\", null]}}",
          "{\"sql\": 7, \"args\": [], \"id\": {}}",
          "{\"sql\": \"SELECT :a\", \"args\": {\"a\": 123456789012345678901234567890123456789012345}}",
          "[[[[[[[[[[",
          "{\"parcel\": 1, \"gate\": \"G01\", \"at\": \"2026-03-02T06:14:09Z\", \"grams\": 1e99}",
          "null");

  private static final List<String> PATHS =
      List.of(
          "/api/v1/views/gate/rows/G01",
          "/api/v1/views/gate/rows?from=G01&to=G05&order=desc&limit=3",
          "/api/v1/views/gate_load/rows?prefix=G",
          "/api/v1/views/gate/count",
          "/api/v1/objects",
          "/api/v1/objects/gate",
          "/api/v1/changes/abc",
          "/api/v1/rejects/scan",
          "/actuator/health",
          "/index.html");

  private static LiveService service;

  @BeforeAll
  static void start() throws Exception {
    service = new LiveService("--drip.max-wire-connections=60");
    service.sql(
        """
        CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, capacity_per_minute INTEGER);
        INSERT INTO gate VALUES ('G01', 'North', 40), ('G02', 'South', 50), ('G03', NULL, NULL);
        CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR, at TIMESTAMP, grams INTEGER);
        CREATE MATERIALIZED VIEW gate_load AS
          SELECT gate, COUNT(*) AS scans FROM scan GROUP BY gate;
        """);
  }

  @AfterAll
  static void stop() throws IOException {
    service.close();
  }

  @Test
  void nothingThatIsSentHarmsTheService() throws Exception {
    long seed = Long.getLong("drip.seed", 12);
    attack(new Random(seed), System.nanoTime() + TimeUnit.SECONDS.toNanos(SECONDS / 4 + 1));
    double bytes = heldBytes();
    double threads = figure("jvm_threads_live_threads");
    List<Socket> standing = crowd();
    long end = System.nanoTime() + TimeUnit.SECONDS.toNanos(SECONDS);
    Random random = new Random(seed + 1);
    attack(random, end);
    for (Socket socket : standing) {
      socket.close();
    }
    assertThat(mistakes(service.log())).as("seed %d, noted %s", seed, NOTED).isEmpty();
    assertThat(NOTED).as("seed %d", seed).isEmpty();
    assertThat(service.sql("SELECT COUNT(*) FROM scan")).as("it still answers").hasSize(1);
    for (int i = 0; i < 100 && figure("jvm_threads_live_threads") > threads + 5; i++) {
      TimeUnit.MILLISECONDS.sleep(200);
    }
    assertThat(figure("jvm_threads_live_threads")).as("threads").isLessThan(threads + 6);
    assertThat(heldBytes()).as("heap in use").isLessThan(bytes + 96e6);
    assertThat(mistakes(service.log())).as("seed %d", seed).isEmpty();
  }

  /** What the service's log calls a mistake of its own, each with the lines that say where. */
  private static List<String> mistakes(String log) {
    List<String> lines = log.lines().toList();
    List<String> found = new ArrayList<>();
    for (int i = 0; i < lines.size(); i++) {
      String line = lines.get(i);
      if (line.endsWith(" failed")
          || line.contains("OutOfMemoryError")
          || line.contains("StackOverflowError")) {
        found.add(String.join("\n", lines.subList(i, Math.min(lines.size(), i + 40))));
      }
    }
    return found;
  }

  private static final int MOST_NOTED = 20;

  private static final java.util.Set<String> NOTED = new java.util.LinkedHashSet<>();

  private static void note(boolean wrong, String what) {
    if (wrong && NOTED.size() < MOST_NOTED) {
      NOTED.add(what);
    }
  }

  private static void attack(Random random, long end) throws Exception {
    for (int i = 0; System.nanoTime() < end; i++) {
      switch (i % 6) {
        case 0 -> bytes(random);
        case 1 -> statements(random);
        case 2 -> messages(random);
        case 3 -> bodies(random);
        case 4 -> paths(random);
        default -> http(random);
      }
    }
  }

  /** More connections than there are places, half of them silent in the middle of a greeting. */
  private static List<Socket> crowd() throws Exception {
    List<Socket> open = new ArrayList<>();
    for (int i = 0; i < CROWD; i++) {
      Socket socket = new Socket();
      try {
        socket.connect(new InetSocketAddress("127.0.0.1", service.wirePort()), 5000);
        if (i % 2 == 0) {
          socket.getOutputStream().write(new byte[] {0, 0, 0});
        }
      } catch (IOException e) {
        socket.close(); // hung up already
        continue;
      }
      open.add(socket);
    }
    // Those who stand still are sent away, and there is room again.
    for (int i = 0; ; i++) {
      try (var c = service.connect();
          var s = c.createStatement();
          var rows = s.executeQuery("SELECT COUNT(*) FROM gate")) {
        assertThat(rows.next()).isTrue();
        return open;
      } catch (java.sql.SQLException e) {
        if (i == 100) {
          throw e;
        }
        TimeUnit.MILLISECONDS.sleep(300);
      }
    }
  }

  // ---- the port of SQL clients

  private static Socket wire() throws IOException {
    Socket socket = new Socket();
    socket.connect(new InetSocketAddress("127.0.0.1", service.wirePort()), 5000);
    socket.setSoTimeout(20_000);
    return socket;
  }

  private static void bytes(Random random) throws IOException {
    try (Socket socket = wire()) {
      byte[] noise = new byte[random.nextInt(2000)];
      random.nextBytes(noise);
      if (noise.length > 8 && random.nextBoolean()) {
        noise[0] = 0;
        noise[1] = 0;
        noise[2] = 0; // a length that can be
        noise[3] = (byte) (8 + random.nextInt(40));
      }
      socket.getOutputStream().write(noise);
      socket.shutdownOutput();
      note(drain(socket).contains(MISTAKE), "a mistake after noise");
    } catch (IOException e) {
      // hung up on
    }
  }

  /** Reads until the other side hangs up or has nothing more to say. */
  private static String drain(Socket socket) throws IOException {
    ByteArrayOutputStream all = new ByteArrayOutputStream();
    byte[] piece = new byte[8192];
    for (int n = 0; n >= 0 && all.size() < 1_000_000; n = socket.getInputStream().read(piece)) {
      all.write(piece, 0, n);
    }
    return all.toString(StandardCharsets.UTF_8);
  }

  private static void greet(DataOutputStream out) throws IOException {
    byte[] settings = "user\0fuzz\0database\0ledger\0\0".getBytes(StandardCharsets.UTF_8);
    out.writeInt(settings.length + 8);
    out.writeInt(196608);
    out.write(settings);
  }

  private static byte[] message(char type, byte[] body) throws IOException {
    ByteArrayOutputStream all = new ByteArrayOutputStream();
    DataOutputStream out = new DataOutputStream(all);
    out.writeByte(type);
    out.writeInt(body.length + 4);
    out.write(body);
    return all.toByteArray();
  }

  private static byte[] text(String... parts) {
    return (String.join("\0", parts) + "\0").getBytes(StandardCharsets.UTF_8);
  }

  private static String mutated(Random random, String statement) {
    StringBuilder text = new StringBuilder(statement);
    for (int n = random.nextInt(4); n >= 0 && !text.isEmpty(); n--) {
      int at = random.nextInt(text.length());
      switch (random.nextInt(7)) {
        case 0 -> text.deleteCharAt(at);
        case 1 -> text.insert(at, (char) (32 + random.nextInt(95)));
        case 2 ->
            text.setCharAt(at, "'\"();,$:\\/*-[]{}\u00e4\ud83d\ud800".charAt(random.nextInt(19)));
        case 3 -> text.insert(at, text.substring(at, Math.min(text.length(), at + 12)));
        case 4 -> text.insert(at, " NULL ");
        case 5 -> text.insert(at, "(".repeat(1 + random.nextInt(30)));
        default -> {
          String other = STATEMENTS.get(random.nextInt(STATEMENTS.size()));
          int cut = random.nextInt(other.length());
          text.replace(at, text.length(), other.substring(cut));
        }
      }
    }
    return text.toString();
  }

  private static void statements(Random random) throws IOException {
    try (Socket socket = wire()) {
      DataOutputStream out = new DataOutputStream(socket.getOutputStream());
      greet(out);
      List<String> sent = new ArrayList<>();
      for (int i = 0; i < 6; i++) {
        String sql = mutated(random, STATEMENTS.get(random.nextInt(STATEMENTS.size())));
        sent.add(sql);
        if (random.nextBoolean()) {
          out.write(message('Q', text(sql.replace('\0', ' '))));
        } else {
          out.write(message('P', concat(text("", sql.replace('\0', ' ')), new byte[2])));
          out.write(message('B', concat(text("", ""), new byte[6])));
          out.write(message('D', text("P")));
          out.write(message('E', concat(text(""), new byte[4])));
          out.write(message('S', new byte[0]));
        }
      }
      out.write(message('X', new byte[0]));
      try {
        note(drain(socket).contains(MISTAKE), "a mistake after " + sent);
      } catch (java.net.SocketTimeoutException e) {
        note(true, "it hangs after " + sent);
      }
    } catch (java.net.SocketException e) {
      // hung up on
    }
  }

  private static byte[] concat(byte[] a, byte[] b) {
    byte[] both = java.util.Arrays.copyOf(a, a.length + b.length);
    System.arraycopy(b, 0, both, a.length, b.length);
    return both;
  }

  /** Good messages, some of whose bytes are others. */
  private static void messages(Random random) throws IOException {
    ByteArrayOutputStream all = new ByteArrayOutputStream();
    all.write(
        message('P', concat(text("s", "SELECT hall FROM gate WHERE gate = $1"), new byte[2])));
    byte[] bind = {0, 0, 0, 1, 0, 0, 0, 3, 'G', '0', '1', 0, 0};
    all.write(message('B', concat(text("p", "s"), bind)));
    all.write(message('D', text("Sp")));
    all.write(message('E', concat(text("p"), new byte[] {0, 0, 0, 1})));
    all.write(message('C', text("Pp")));
    all.write(message('H', new byte[0]));
    all.write(message('S', new byte[0]));
    all.write(message('Q', text("COPY scan (parcel) FROM STDIN")));
    all.write(message('d', "1\n2\n".getBytes(StandardCharsets.UTF_8)));
    all.write(message('c', new byte[0]));
    byte[] good = all.toByteArray();
    for (int n = random.nextInt(5); n >= 0; n--) {
      good[random.nextInt(good.length)] = (byte) random.nextInt();
    }
    try (Socket socket = wire()) {
      DataOutputStream out = new DataOutputStream(socket.getOutputStream());
      greet(out);
      int cut = random.nextInt(4) == 0 ? random.nextInt(good.length) : good.length;
      out.write(good, 0, cut);
      socket.shutdownOutput();
      note(
          drain(socket).contains(MISTAKE),
          "a mistake after " + java.util.HexFormat.of().formatHex(good));
    } catch (java.net.SocketException e) {
      // hung up on
    }
  }

  // ---- the port of HTTP

  private static void bodies(Random random) throws IOException {
    String body = BODIES.get(random.nextInt(BODIES.size()));
    if (random.nextBoolean()) {
      body = mutated(random, body);
    } else if (random.nextInt(4) == 0) {
      body = "{\"args\":{\"a\":".repeat(1 + random.nextInt(3000)) + body;
    }
    String path = random.nextBoolean() ? "/api/v1/sql" : "/api/v1/streams/scan/events";
    LiveService.Answer answer = service.call("POST", path, body);
    note(answer.status() == 500, path + " " + body);
  }

  private static void paths(Random random) throws IOException {
    StringBuilder path = new StringBuilder(PATHS.get(random.nextInt(PATHS.size())));
    for (int n = random.nextInt(3); n >= 0; n--) {
      String piece =
          List.of(
                  "%00",
                  "%2F", "%", ";x", "..", "%ff", "=", "&limit=-1", "?", "%3B", "\u00e4", "//")
              .get(random.nextInt(12));
      path.insert(1 + random.nextInt(path.length()), piece);
    }
    raw(
        "GET " + path + " HTTP/1.1\r\nHost: 127.0.0.1\r\nConnection: close\r\n\r\n",
        path.toString());
  }

  private static void http(Random random) throws IOException {
    StringBuilder request =
        new StringBuilder(
            "POST /api/v1/sql HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/json\r\n"
                + "Content-Length: 18\r\nConnection: close\r\n\r\n{\"sql\":\"SELECT 1\"}");
    for (int n = random.nextInt(4); n >= 0; n--) {
      request.setCharAt(random.nextInt(request.length()), (char) random.nextInt(256));
    }
    raw(request.toString(), request.toString());
  }

  private static void raw(String request, String shown) throws IOException {
    try (Socket socket =
        new Socket("127.0.0.1", Integer.parseInt(service.url().replaceAll(".*:", "")))) {
      socket.setSoTimeout(10_000);
      socket.getOutputStream().write(request.getBytes(StandardCharsets.UTF_8));
      socket.shutdownOutput();
      DataInputStream in = new DataInputStream(socket.getInputStream());
      String answer = new String(in.readNBytes(16), StandardCharsets.ISO_8859_1);
      note(answer.startsWith("HTTP/1.1 500"), shown);
    } catch (java.net.SocketException | java.net.SocketTimeoutException e) {
      // hung up on, or it waits for what was promised
    }
  }

  // ---- what it holds

  private static double heldBytes() throws Exception {
    new ProcessBuilder(
            java.nio.file.Path.of(System.getProperty("java.home"), "bin", "jcmd").toString(),
            "" + service.pid(),
            "GC.run")
        .redirectErrorStream(true)
        .redirectOutput(ProcessBuilder.Redirect.DISCARD)
        .start()
        .waitFor();
    return figure("jvm_memory_used_bytes\\{area=\"heap\"[^}]*\\}");
  }

  /** The sum of the figures of a name. */
  private static double figure(String name) throws IOException {
    String all = service.call("GET", "/actuator/prometheus", null).body();
    Matcher m = Pattern.compile("(?m)^" + name + " (\\S+)$").matcher(all);
    double sum = 0;
    while (m.find()) {
      sum += Double.parseDouble(m.group(1));
    }
    return sum;
  }
}
