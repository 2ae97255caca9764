package dripledger.bench;

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
import java.sql.PreparedStatement;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Random;
import java.util.concurrent.locks.LockSupport;
import java.util.stream.Stream;

/**
 * Prepared reads by key with pgbench: of a table in PostgreSQL, and of the same table here, kept by
 * its change feed, while it is being updated. In alternation, so that both see the same machine.
 */
final class Serving {
  private static final String PASSWORD = "loopback";
  private static final int UPDATES = 5000; // a second
  private static final int BATCH = 50;

  private final int rounds;
  private final int seconds;
  private final Path service;

  /**
   * @param seconds of each measurement
   */
  Serving(int rounds, int seconds, Path service) {
    this.rounds = rounds;
    this.seconds = seconds;
    this.service = service;
  }

  void run() throws Exception {
    int port = PostgresCluster.freePort();
    int wire = PostgresCluster.freePort();
    try (PostgresCluster cluster = PostgresCluster.temporary(true)) {
      fill(cluster);
      Process process = service(cluster, port, wire);
      try {
        declare(cluster, port);
        measure(cluster, wire);
      } finally {
        process.destroy();
        process.waitFor();
      }
    }
  }

  private static void fill(PostgresCluster cluster) throws Exception {
    cluster.administer("CREATE DATABASE hub OWNER drip;");
    Process made = pgbench(cluster.port(), "drip", PASSWORD, "hub", "-i", "-q", "-s", "10").start();
    made.getInputStream().readAllBytes();
    if (made.waitFor() != 0) {
      throw new IOException("pgbench could not make its tables");
    }
  }

  private static ProcessBuilder pgbench(
      int port, String user, String password, String database, String... arguments) {
    List<String> command = new ArrayList<>(List.of("pgbench", "-h", "127.0.0.1", "-p", "" + port));
    command.addAll(List.of("-U", user));
    command.addAll(List.of(arguments));
    command.add(database);
    ProcessBuilder builder = new ProcessBuilder(command).redirectErrorStream(true);
    builder.environment().put("PGPASSWORD", password);
    return builder;
  }

  private Process service(PostgresCluster cluster, int port, int wire) throws Exception {
    List<String> command = ServiceProgram.of(service).command("-Xms3g", "-Xmx3g");
    command.add("--drip.wire-port=" + wire);
    command.add("--server.port=" + port);
    command.add("--drip.warm-up-millis=0");
    ProcessBuilder builder =
        new ProcessBuilder(command)
            .redirectErrorStream(true)
            .redirectOutput(Files.createTempFile("drip-bench", ".log").toFile());
    builder.environment().put("DRIP_DATABASE_URL", cluster.jdbcUrl(PostgresCluster.DATABASE));
    builder.environment().put("DRIP_DATABASE_PASSWORD", PASSWORD);
    builder
        .environment()
        .put("DRIP_SECRET_KEY_FILE", Files.createTempDirectory("drip").resolve("key").toString());
    return builder.start();
  }

  private static void declare(PostgresCluster cluster, int port) throws Exception {
    String base = "http://127.0.0.1:" + port;
    until(() -> call(base + "/actuator/health/readiness", "GET", null) == 200);
    call(base + "/api/v1/secrets/hub_password", "PUT", "{\"value\":\"" + PASSWORD + "\"}");
    String script =
        "CREATE CONNECTION hub TYPE postgres OPTIONS (url '"
            + cluster.jdbcUrl("hub")
            + "', user 'drip', password SECRET hub_password);"
            + "CREATE TABLE pgbench_accounts FROM hub (table 'public.pgbench_accounts');"
            + "CREATE TABLE pgbench_branches FROM hub (table 'public.pgbench_branches');";
    String body = "{\"sql\":\"" + script.replace("\"", "\\\"") + "\"}";
    if (call(base + "/api/v1/sql", "POST", body) != 200) {
      throw new IOException("the tables could not be declared");
    }
    String count = "{\"sql\":\"SELECT * FROM pgbench_accounts WHERE aid = 1000000\"}";
    until(() -> call(base + "/api/v1/sql", "POST", count) == 200);
  }

  private interface Condition {
    boolean holds() throws IOException;
  }

  private static void until(Condition condition) throws IOException {
    for (int i = 0; i < 1200 && !condition.holds(); i++) {
      LockSupport.parkNanos(100_000_000);
    }
  }

  private static int call(String url, String method, String body) throws IOException {
    HttpURLConnection c = (HttpURLConnection) URI.create(url).toURL().openConnection();
    c.setRequestMethod(method);
    try {
      if (body != null) {
        c.setDoOutput(true);
        c.setRequestProperty("Content-Type", "application/json");
        try (var out = c.getOutputStream()) {
          out.write(body.getBytes(StandardCharsets.UTF_8));
        }
      }
      int status = c.getResponseCode();
      if (status >= 400 && status != 422 && status != 503) {
        System.err.println(new String(c.getErrorStream().readAllBytes(), StandardCharsets.UTF_8));
      }
      return status;
    } catch (java.net.ConnectException e) {
      return 0;
    }
  }

  /** What one run of pgbench saw: reads a second, and milliseconds for 99 of 100. */
  private record Seen(double perSecond, double p99) {}

  private void measure(PostgresCluster cluster, int wire) throws Exception {
    System.out.printf(
        "%nreads by primary key, prepared, of 1,000,000 rows that change %,d times a second%n",
        UPDATES);
    for (int clients : new int[] {1, 16}) { // warms the service as a first day would
      pgbench(wire, "reader", "", "ledger", clients);
    }
    Updates updates = new Updates(cluster);
    updates.start();
    try {
      for (int clients : new int[] {1, 4, 16}) {
        List<Seen> theirs = new ArrayList<>();
        List<Seen> ours = new ArrayList<>();
        for (int round = 0; round < rounds; round++) {
          theirs.add(pgbench(cluster.port(), "drip", PASSWORD, "hub", clients));
          ours.add(pgbench(wire, "reader", "", "ledger", clients));
        }
        double[] ratios = new double[rounds];
        Arrays.setAll(ratios, i -> ours.get(i).perSecond / theirs.get(i).perSecond);
        System.out.printf(
            "  %2d clients: PostgreSQL %,8.0f a second (p99 %.3f ms), here %,8.0f (p99 %.3f ms):"
                + " %.2f times%n",
            clients,
            median(theirs.stream().mapToDouble(Seen::perSecond).toArray()),
            median(theirs.stream().mapToDouble(Seen::p99).toArray()),
            median(ours.stream().mapToDouble(Seen::perSecond).toArray()),
            median(ours.stream().mapToDouble(Seen::p99).toArray()),
            median(ratios));
      }
    } finally {
      updates.end();
    }
  }

  private Seen pgbench(int port, String user, String password, String database, int clients)
      throws Exception {
    Path folder = Files.createTempDirectory("pgbench");
    ProcessBuilder builder =
        pgbench(
            port,
            user,
            password,
            database,
            "-S",
            "-n",
            "-M",
            "prepared",
            "-c",
            "" + clients,
            "-j",
            "" + Math.min(2, clients),
            "-T",
            "" + seconds,
            "-l",
            "--sampling-rate=0.1");
    Process process = builder.directory(folder.toFile()).start();
    String out = new String(process.getInputStream().readAllBytes(), StandardCharsets.UTF_8);
    if (process.waitFor() != 0 || !out.contains("failed transactions: 0 ")) {
      throw new IOException(out);
    }
    double perSecond =
        out.lines()
            .filter(l -> l.startsWith("tps = "))
            .mapToDouble(l -> Double.parseDouble(l.split(" ")[2]))
            .findFirst()
            .orElseThrow();
    List<Long> micros = new ArrayList<>();
    try (Stream<Path> logs = Files.list(folder)) {
      for (Path log : logs.toList()) {
        Files.readAllLines(log).forEach(l -> micros.add(Long.parseLong(l.split(" ")[2])));
        Files.delete(log);
      }
    }
    Files.delete(folder);
    micros.sort(null);
    return new Seen(perSecond, micros.get((int) (micros.size() * 0.99)) / 1e3);
  }

  private static double median(double[] values) {
    double[] sorted = values.clone();
    Arrays.sort(sorted);
    int half = sorted.length / 2;
    return sorted.length % 2 == 1 ? sorted[half] : (sorted[half - 1] + sorted[half]) / 2;
  }

  /** Changes rows at a steady rate. */
  private static final class Updates extends Thread {
    private final Connection connection;
    private volatile boolean ended;

    Updates(PostgresCluster cluster) throws SQLException {
      super("updates");
      connection = DriverManager.getConnection(cluster.jdbcUrl("hub"), "drip", PASSWORD);
      connection.setAutoCommit(false);
      try (Statement s = connection.createStatement()) {
        s.execute("SET synchronous_commit = off");
      }
      connection.commit();
    }

    @Override
    public void run() {
      Random random = new Random(1);
      try (PreparedStatement update =
          connection.prepareStatement(
              "UPDATE pgbench_accounts SET abalance = abalance + 1 WHERE aid = ANY (?)")) {
        long next = System.nanoTime();
        while (!ended) {
          Integer[] rows = new Integer[BATCH];
          Arrays.setAll(rows, i -> 1 + random.nextInt(1_000_000));
          update.setArray(1, connection.createArrayOf("integer", rows));
          update.executeUpdate();
          connection.commit();
          next += 1_000_000_000L * BATCH / UPDATES;
          LockSupport.parkNanos(next - System.nanoTime());
        }
      } catch (SQLException e) {
        System.err.println("updates: " + e.getMessage());
      }
    }

    void end() throws InterruptedException, SQLException {
      ended = true;
      join();
      connection.close();
    }
  }
}
