package dripledger.acceptance;

import dripledger.demo.PostgresCluster;
import dripledger.demo.ServiceProgram;
import java.io.IOException;
import java.net.HttpURLConnection;
import java.net.URI;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.SQLException;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.locks.LockSupport;

/**
 * The real service as a process of its own, on a free port of loopback, with a PostgreSQL of its
 * own.
 */
final class LiveService implements AutoCloseable {
  private static final String PASSWORD = "loopback";
  private static final String TYPICAL =
      """
      CREATE TABLE typical (k INTEGER PRIMARY KEY, name VARCHAR, at TIMESTAMP);
      CREATE STREAM passing (k BIGINT, name VARCHAR, at TIMESTAMP NOT NULL, EVENT TIME at);
      CREATE MATERIALIZED VIEW grouped AS SELECT p.name, COUNT(*) AS n, MAX(t.at) AS at FROM passing AS p
        LEFT JOIN typical AS t ON t.k = p.k WHERE p.k > 3 GROUP BY p.name;
      INSERT INTO typical VALUES (1, 'a', TIMESTAMP '2026-03-02 06:00:00');
      SELECT COUNT(*) FROM grouped; SELECT * FROM typical WHERE k = 1; SHOW VIEWS;
      DROP MATERIALIZED VIEW grouped; DROP STREAM passing; DROP TABLE typical
      """;
  private static ServiceProgram program;
  private static Path clientClasses;

  private final PostgresCluster cluster;
  private final int port = PostgresCluster.freePort();
  private final int wirePort = PostgresCluster.freePort();
  private final Path log = Files.createTempFile("drip-service", ".log");
  private String token;
  private final Path keyFile = Files.createTempDirectory("drip-key").resolve("secrets.key");
  private final String[] settings;
  private Process process;

  /**
   * @param settings further settings of the service, such as {@code --drip.max-rejects=10}
   */
  LiveService(String... settings) throws IOException, InterruptedException {
    this.settings = settings;
    cluster = PostgresCluster.temporary();
    start();
  }

  private LiveService(LiveService first) throws IOException, InterruptedException {
    settings = new String[0];
    cluster = first.cluster;
    start();
  }

  /** Another service on the same database. */
  LiveService second() throws IOException, InterruptedException {
    return new LiveService(this);
  }

  String url() {
    return "http://127.0.0.1:" + port;
  }

  /** Where SQL clients connect. */
  int wirePort() {
    return wirePort;
  }

  /** A new connection of a SQL client. */
  Connection connect(String... properties) throws SQLException {
    java.util.Properties all = new java.util.Properties();
    all.setProperty("user", "dispatch");
    for (String property : properties) {
      all.setProperty(property.split("=", 2)[0], property.split("=", 2)[1]);
    }
    return DriverManager.getConnection("jdbc:postgresql://127.0.0.1:" + wirePort + "/ledger", all);
  }

  /** A new connection to the records. */
  Connection records() throws SQLException {
    return DriverManager.getConnection(
        cluster.jdbcUrl(PostgresCluster.DATABASE), PostgresCluster.USER, PASSWORD);
  }

  PostgresCluster cluster() {
    return cluster;
  }

  /** Looked up once: the jar does not change, and to tell it from others takes a second. */
  private static synchronized ServiceProgram program() throws IOException, InterruptedException {
    if (program == null) {
      program = ServiceProgram.of(Path.of(System.getProperty("drip.service.jar")));
    }
    return program;
  }

  void start() throws IOException, InterruptedException {
    ServiceProgram program = program();
    List<String> command = program.command("-Xmx1g", "-XX:TieredStopAtLevel=1");
    command.add("--drip.warm-up-millis=0");
    command.add("--drip.wire-port=" + wirePort);
    command.addAll(List.of(settings));
    ProcessBuilder builder =
        new ProcessBuilder(command)
            .redirectErrorStream(true)
            .redirectOutput(ProcessBuilder.Redirect.appendTo(log.toFile()));
    builder.environment().put("DRIP_DATABASE_URL", cluster.jdbcUrl(PostgresCluster.DATABASE));
    builder.environment().put("DRIP_DATABASE_PASSWORD", PASSWORD);
    builder.environment().put("DRIP_SECRET_KEY_FILE", keyFile.toString());
    builder.environment().put("DRIP_FILE_FOLDERS", System.getProperty("java.io.tmpdir"));
    builder.environment().put("DRIP_OWNER_TOKEN_FILE", keyFile + ".owner");
    builder.environment().put("SERVER_PORT", "" + port);
    process = builder.start();
    for (int i = 0; i < 1800; i++) {
      if (!process.isAlive()) {
        throw new IOException("the service ended:\n" + Files.readString(log));
      }
      if (healthy()) {
        if (!program.hasClasses()) {
          sql(TYPICAL); // so that they are those of a service that is used
          program.keepClasses(process.pid());
        }
        return;
      }
      Thread.sleep(100);
    }
    throw new IOException("the service does not answer:\n" + Files.readString(log));
  }

  /** From now on calls and clients come with a token; with none if it is null. */
  void as(String other) {
    token = other;
  }

  /** The token that the owner was given at the first start. */
  String ownerToken() throws IOException {
    return Files.readString(Path.of(keyFile + ".owner")).strip();
  }

  /** The service's log so far. */
  String log() throws IOException {
    return Files.readString(log);
  }

  /** A call of the network interface; answers status and body. */
  Answer call(String method, String path, String body) throws IOException {
    HttpURLConnection c = (HttpURLConnection) URI.create(url() + path).toURL().openConnection();
    c.setRequestMethod(method);
    c.setReadTimeout(120_000);
    if (token != null) {
      c.setRequestProperty("Authorization", "Bearer " + token);
    }
    if (body != null) {
      c.setDoOutput(true);
      c.setRequestProperty("Content-Type", "application/json");
      try (var out = c.getOutputStream()) {
        out.write(body.getBytes(StandardCharsets.UTF_8));
      }
    }
    int status = c.getResponseCode();
    try (var in = status < 400 ? c.getInputStream() : c.getErrorStream()) {
      return new Answer(
          status, in == null ? "" : new String(in.readAllBytes(), StandardCharsets.UTF_8));
    }
  }

  /** Status and body of an answer. */
  record Answer(int status, String body) {}

  /** Runs statements and answers the last one's rows, each as JSON values; fails on an error. */
  @SuppressWarnings("unchecked")
  List<List<Object>> sql(String script) throws IOException {
    Answer answer = call("POST", "/api/v1/sql", Json.write(Map.of("sql", script)));
    if (answer.status() != 200) {
      throw new IOException(script + "\n" + answer.body());
    }
    List<Object> results = (List<Object>) Json.read(answer.body()).get("results");
    Map<String, Object> last = (Map<String, Object>) results.get(results.size() - 1);
    return (List<List<Object>>) last.getOrDefault("rows", List.of());
  }

  private boolean healthy() {
    try {
      HttpURLConnection c =
          (HttpURLConnection)
              URI.create(url() + "/actuator/health/readiness").toURL().openConnection();
      return c.getResponseCode() == 200;
    } catch (IOException e) {
      return false;
    }
  }

  private static String java() {
    return Path.of(System.getProperty("java.home"), "bin", "java").toString();
  }

  /** The process's number. */
  long pid() {
    return process.pid();
  }

  /** Ends the process as kill -9 does. */
  void kill() throws InterruptedException {
    process.destroyForcibly();
    process.waitFor();
  }

  /** Asks the process to end; answers whether it did so in time. */
  boolean stop() throws InterruptedException {
    process.destroy();
    return process.waitFor(20, TimeUnit.SECONDS);
  }

  /** What a run of the client printed and how it ended. */
  record Run(int exit, String out, String err) {}

  /**
   * Types into the interactive shell, in a terminal of its own; answers what the terminal showed.
   */
  String shell(String... typed) throws IOException, InterruptedException {
    String command =
        java() + " -XX:TieredStopAtLevel=1 -jar " + System.getProperty("drip.client.jar") + " sql";
    Path out = Files.createTempFile("drip", ".screen");
    ProcessBuilder builder =
        new ProcessBuilder("script", "-q", "-e", "-c", command, "/dev/null")
            .redirectErrorStream(true)
            .redirectOutput(out.toFile());
    builder.environment().put("DRIP_URL", url());
    builder.environment().put("LC_ALL", "C.UTF-8");
    builder.environment().put("TERM", "xterm");
    Process terminal = builder.start();
    try (var in = terminal.getOutputStream()) {
      awaitPrompts(terminal, out, 1);
      for (int i = 0; i < typed.length; i++) {
        in.write(typed[i].getBytes(StandardCharsets.UTF_8));
        in.flush();
        awaitPrompts(terminal, out, i + 2);
      }
      if (terminal.isAlive()) {
        in.write(4); // Ctrl-D
        in.flush();
      }
      if (!terminal.waitFor(20, TimeUnit.SECONDS)) {
        terminal.destroyForcibly();
        throw new IOException("the shell did not end:\n" + Files.readString(out));
      }
    }
    String screen = Files.readString(out);
    Files.delete(out);
    return screen;
  }

  /** The line editor turns bracketed paste on each time it waits for a statement. */
  private static void awaitPrompts(Process terminal, Path screen, int count)
      throws IOException, InterruptedException {
    for (int i = 0; i < 200; i++) {
      boolean ended = !terminal.isAlive(); // told to leave
      if (ended || Files.readString(screen).split("\u001b\\[\\?2004h", -1).length > count) {
        return;
      }
      Thread.sleep(100);
    }
    throw new IOException("no prompt:\n" + Files.readString(screen));
  }

  /** Runs the client as a process of its own. */
  Run drip(String input, String... arguments) throws IOException, InterruptedException {
    return await(client(List.of(), arguments), input, () -> {});
  }

  /** Runs the client with its output piped into a command of the shell. */
  Run piped(String into, String... arguments) throws IOException, InterruptedException {
    return await(
        client(List.of("bash", "-c", "\"$@\" | " + into, "bash"), arguments), "", () -> {});
  }

  /** What is done while a client runs. */
  interface Action {
    void run() throws IOException;
  }

  /** Runs the client, and the action once it has printed its first line. */
  Run meanwhile(Action action, String... arguments) throws IOException, InterruptedException {
    Client client = client(List.of(), arguments);
    return await(
        client,
        "",
        () -> {
          awaitWhileAlive(client, () -> Files.size(client.out) > 0);
          action.run();
        });
  }

  /** What is waited for while a client runs. */
  interface Condition {
    boolean holds() throws IOException;
  }

  /** Runs the client and ends it once something is so. */
  Run endedWhen(Condition condition, String... arguments) throws IOException, InterruptedException {
    Client client = client(List.of(), arguments);
    return await(
        client,
        "",
        () -> {
          awaitWhileAlive(client, condition);
          client.process.destroy();
        });
  }

  private static void awaitWhileAlive(Client client, Condition condition) throws IOException {
    for (int i = 0; i < 1200 && client.process.isAlive() && !condition.holds(); i++) {
      LockSupport.parkNanos(TimeUnit.MILLISECONDS.toNanos(20));
    }
  }

  private record Client(Process process, Path out, Path err) {}

  /**
   * The client's loaded classes, kept as ./drip keeps them: its start is most of what a run costs.
   */
  private static synchronized Path clientClasses() throws IOException {
    if (clientClasses == null) {
      Path archive = Files.createTempDirectory("drip-client").resolve("classes.jsa");
      Process process =
          new ProcessBuilder(
                  java(),
                  "-XX:ArchiveClassesAtExit=" + archive,
                  "-XX:+UseSerialGC",
                  "-jar",
                  System.getProperty("drip.client.jar"),
                  "sql",
                  "SHOW VIEWS",
                  "--url",
                  "http://127.0.0.1:1")
              .redirectErrorStream(true)
              .redirectOutput(ProcessBuilder.Redirect.DISCARD)
              .start();
      process.onExit().join();
      clientClasses = archive; // or there is none, and the client starts as it can
    }
    return clientClasses;
  }

  private Client client(List<String> before, String... arguments) throws IOException {
    List<String> command = new ArrayList<>(before);
    command.addAll(
        List.of(
            java(),
            "-XX:SharedArchiveFile=" + clientClasses(),
            "-Xshare:auto",
            "-XX:TieredStopAtLevel=1",
            "-XX:+UseSerialGC",
            "-jar",
            System.getProperty("drip.client.jar")));
    command.addAll(List.of(arguments));
    Path out = Files.createTempFile("drip", ".out");
    Path err = Files.createTempFile("drip", ".err");
    ProcessBuilder builder =
        new ProcessBuilder(command).redirectOutput(out.toFile()).redirectError(err.toFile());
    builder.environment().put("DRIP_URL", url());
    builder.environment().put("LC_ALL", "C.UTF-8");
    builder.environment().put("DRIP_LOGINS", keyFile.resolveSibling("logins.json").toString());
    if (token != null) {
      builder.environment().put("DRIP_TOKEN", token);
    }
    return new Client(builder.start(), out, err);
  }

  private static Run await(Client client, String input, Action action)
      throws IOException, InterruptedException {
    try (var in = client.process.getOutputStream()) {
      in.write(input.getBytes(StandardCharsets.UTF_8));
    }
    action.run();
    if (!client.process.waitFor(60, TimeUnit.SECONDS)) {
      client.process.destroyForcibly();
      throw new IOException("the client did not end");
    }
    Run run =
        new Run(
            client.process.exitValue(), Files.readString(client.out), Files.readString(client.err));
    Files.delete(client.out);
    Files.delete(client.err);
    return run;
  }

  @Override
  public void close() throws IOException {
    try {
      if (process.isAlive() && !stop()) {
        kill();
      }
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
    cluster.close();
    Files.deleteIfExists(log);
  }
}
