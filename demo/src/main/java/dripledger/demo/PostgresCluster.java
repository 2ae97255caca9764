package dripledger.demo;

import java.io.IOException;
import java.io.OutputStream;
import java.io.UncheckedIOException;
import java.net.InetAddress;
import java.net.ServerSocket;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.attribute.PosixFilePermissions;
import java.util.ArrayList;
import java.util.Comparator;
import java.util.List;
import java.util.Set;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.ThreadLocalRandom;
import java.util.concurrent.TimeUnit;
import java.util.stream.Stream;

/**
 * A PostgreSQL server of our own, from the system's packages, on loopback: made on first use,
 * started and stopped by us, reachable with one password. Works as root (the server then runs as
 * the system's {@code postgres} user) and as an ordinary user. Not thread-safe.
 */
public final class PostgresCluster implements AutoCloseable {
  private static final int FIRST_PORT = 16_000; // below those that the system gives
  private static final int MOST_PORTS = 16_000;
  private static final Set<Integer> GIVEN = ConcurrentHashMap.newKeySet();

  /** The database user made with the cluster. */
  public static final String USER = "drip";

  /** The database made with the cluster. */
  public static final String DATABASE = "drip";

  private final Path home;
  private final String password;
  private final int port;
  private final boolean durable;
  private final boolean logical;

  /**
   * @param home an absolute folder for everything; made if missing; its parents must be passable
   *     for the postgres user when run as root
   * @param port 0 for a free one
   * @param password letters and digits; set anew at each start and kept nowhere
   * @param durable false trades safety at a power cut for speed, for tests
   * @param logical whether others can follow its changes
   */
  public PostgresCluster(Path home, int port, String password, boolean durable, boolean logical) {
    this.logical = logical;
    this.home = home;
    this.password = password;
    this.durable = durable;
    this.port = port != 0 ? port : freePort();
  }

  /**
   * A port nobody listens on at this moment, and that no connection to somewhere else is given by
   * the system before we listen on it. Safe from any thread.
   */
  public static int freePort() {
    for (int tried = 0; tried < MOST_PORTS; tried++) {
      int port = FIRST_PORT + ThreadLocalRandom.current().nextInt(MOST_PORTS);
      try (ServerSocket socket = new ServerSocket(port, 1, InetAddress.getLoopbackAddress())) {
        if (GIVEN.add(port)) {
          return socket.getLocalPort();
        }
      } catch (IOException e) {
        // somebody does
      }
    }
    throw new IllegalStateException("there is no free port");
  }

  public int port() {
    return port;
  }

  /** The JDBC URL of a database in the cluster, without credentials. */
  public String jdbcUrl(String database) {
    return "jdbc:postgresql://127.0.0.1:" + port + "/" + database;
  }

  /** The folder of the newest installed server's programs, or null if none is installed. */
  public static Path programs() {
    Path root = Path.of("/usr/lib/postgresql");
    if (!Files.isDirectory(root)) {
      return null;
    }
    try (Stream<Path> versions = Files.list(root)) {
      return versions
          .map(v -> v.resolve("bin"))
          .filter(b -> Files.isExecutable(b.resolve("initdb")))
          .max(Comparator.comparingInt(b -> version(b.getParent().getFileName().toString())))
          .orElse(null);
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    }
  }

  private static int version(String name) {
    return name.matches("\\d+") ? Integer.parseInt(name) : 0;
  }

  private static boolean root() {
    return "root".equals(System.getProperty("user.name"));
  }

  private List<String> command(String program, String... arguments) {
    Path programs = programs();
    if (programs == null) {
      throw new IllegalStateException(
          "PostgreSQL is not installed; as root: apt-get install postgresql");
    }
    List<String> command = new ArrayList<>();
    if (root()) {
      command.addAll(List.of("setpriv", "--reuid=postgres", "--regid=postgres", "--clear-groups"));
    }
    Path own = programs.resolve(program);
    command.add(Files.isExecutable(own) ? own.toString() : program);
    command.addAll(List.of(arguments));
    return command;
  }

  private void run(List<String> command) throws IOException, InterruptedException {
    Path log = home.resolve("commands.log");
    Process process =
        new ProcessBuilder(command)
            .directory(Path.of("/").toFile())
            .redirectErrorStream(true)
            .redirectOutput(ProcessBuilder.Redirect.appendTo(log.toFile()))
            .start();
    if (!process.waitFor(60, TimeUnit.SECONDS) || process.exitValue() != 0) {
      process.destroy();
      throw new IOException(
          String.join(" ", command.subList(0, Math.min(command.size(), 6)))
              + " failed:\n"
              + Files.readString(log));
    }
  }

  /** Makes the cluster if it is not there, and starts it if it does not run. */
  public PostgresCluster start() throws IOException, InterruptedException {
    Path data = home.resolve("data");
    Files.createDirectories(home);
    if (root()) {
      Files.setPosixFilePermissions(home, PosixFilePermissions.fromString("rwxr-xr-x"));
      own(home);
    }
    if (!Files.exists(data.resolve("PG_VERSION"))) {
      // Over the socket only the operating system's own user gets in; over TCP, only by password.
      run(
          command(
              "initdb",
              "--pgdata=" + data,
              "--auth-local=peer",
              "--auth-host=scram-sha-256",
              "--encoding=UTF8",
              "--locale=C",
              "--no-sync"));
    }
    if (!running()) {
      String options =
          "-c listen_addresses=127.0.0.1 -p "
              + port
              + " -k "
              + home
              + " -c jit=off" // to compile a query takes longer than any that is asked here
              + (durable ? "" : " -c fsync=off -c full_page_writes=off")
              + (logical ? " -c wal_level=logical" : "");
      run(
          command(
              "pg_ctl",
              "--pgdata=" + data,
              "--wait",
              "--silent",
              "--log=" + home.resolve("server.log"),
              "--options=" + options,
              "start"));
    }
    setPassword();
    return this;
  }

  /**
   * Sets the password, which is never written to a disk, through the socket; and makes what mirrors
   * of the catalog are made from, in which rows may be estimated.
   */
  private void setPassword() throws IOException, InterruptedException {
    if (!password.matches("[A-Za-z0-9]+")) {
      throw new IllegalArgumentException("the password is letters and digits");
    }
    String script =
        """
        SELECT 'CREATE ROLE drip LOGIN CREATEDB'
          WHERE NOT EXISTS (SELECT FROM pg_roles WHERE rolname = 'drip') \\gexec
        ALTER ROLE drip CREATEROLE REPLICATION PASSWORD '%s';
        SELECT 'CREATE DATABASE drip OWNER drip'
          WHERE NOT EXISTS (SELECT FROM pg_database WHERE datname = 'drip') \\gexec
        SELECT $$CREATE DATABASE drip_mirror OWNER drip IS_TEMPLATE true TEMPLATE template0
            ENCODING 'UTF8' LC_COLLATE 'C' LC_CTYPE 'C'$$
          WHERE NOT EXISTS (SELECT FROM pg_database WHERE datname = 'drip_mirror') \\gexec
        \\connect drip_mirror
        CREATE SCHEMA IF NOT EXISTS drip AUTHORIZATION drip;
        CREATE OR REPLACE FUNCTION drip.estimate(rows real, relation bigint) RETURNS void
          LANGUAGE sql SECURITY DEFINER SET search_path = pg_catalog AS
          $$UPDATE pg_class SET reltuples = rows
            WHERE oid = relation AND relowner = 'drip'::regrole$$;
        REVOKE ALL ON FUNCTION drip.estimate(real, bigint) FROM PUBLIC;
        GRANT EXECUTE ON FUNCTION drip.estimate(real, bigint) TO drip;
        """
            .formatted(password);
    administer(script);
  }

  /** Runs a script as the cluster's superuser, through the socket. */
  public void administer(String script) throws IOException, InterruptedException {
    List<String> command = command("psql", "-X", "-q", "-v", "ON_ERROR_STOP=1");
    command.addAll(List.of("-h", home.toString(), "-p", "" + port, "-d", "postgres"));
    Process psql =
        new ProcessBuilder(command)
            .directory(Path.of("/").toFile())
            .redirectErrorStream(true)
            .redirectOutput(ProcessBuilder.Redirect.DISCARD)
            .start();
    try (OutputStream in = psql.getOutputStream()) {
      in.write(script.getBytes(StandardCharsets.UTF_8));
    }
    if (psql.waitFor() != 0) {
      throw new IOException("the script for the database's superuser failed");
    }
  }

  private static void own(Path path) throws IOException {
    Files.setOwner(
        path,
        path.getFileSystem().getUserPrincipalLookupService().lookupPrincipalByName("postgres"));
  }

  /** Whether this cluster's server runs. */
  public boolean running() throws IOException, InterruptedException {
    Path data = home.resolve("data");
    if (!Files.isDirectory(data)) {
      return false;
    }
    Process status =
        new ProcessBuilder(command("pg_ctl", "--pgdata=" + data, "status"))
            .directory(Path.of("/").toFile())
            .redirectErrorStream(true)
            .redirectOutput(ProcessBuilder.Redirect.DISCARD)
            .start();
    return status.waitFor() == 0;
  }

  /** Stops the server without a farewell, as if its machine had failed. */
  public void crash() throws IOException, InterruptedException {
    run(
        command(
            "pg_ctl", "--pgdata=" + home.resolve("data"), "--wait", "--mode=immediate", "stop"));
  }

  /** Stops the server; data stays. */
  public void stop() throws IOException, InterruptedException {
    if (running()) {
      run(command("pg_ctl", "--pgdata=" + home.resolve("data"), "--wait", "--mode=fast", "stop"));
    }
  }

  @Override
  public void close() {
    try {
      stop();
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }

  /** A cluster in a temporary folder that is stopped and deleted when the process ends. */
  public static PostgresCluster temporary() throws IOException, InterruptedException {
    return temporary(false);
  }

  /** The same, whose changes can be followed. */
  public static PostgresCluster temporary(boolean logical)
      throws IOException, InterruptedException {
    Path home = Files.createTempDirectory("drip-pg");
    PostgresCluster cluster = new PostgresCluster(home, 0, "loopback", false, logical);
    Runtime.getRuntime()
        .addShutdownHook(
            new Thread(
                () -> {
                  cluster.close();
                  delete(home);
                }));
    return cluster.start();
  }

  private static void delete(Path home) {
    try (Stream<Path> files = Files.walk(home)) {
      for (Path file : files.sorted(Comparator.reverseOrder()).toList()) {
        Files.deleteIfExists(file);
      }
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    }
  }
}
