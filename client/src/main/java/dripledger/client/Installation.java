package dripledger.client;

import dripledger.demo.KafkaBroker;
import dripledger.demo.PostgresCluster;
import dripledger.demo.ServiceProgram;
import java.io.File;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.security.SecureRandom;
import java.util.ArrayList;
import java.util.HexFormat;
import java.util.List;
import java.util.Map;
import java.util.Optional;
import java.util.concurrent.TimeUnit;
import javax.net.ssl.SSLException;

/**
 * The service on this machine: its folder, its private PostgreSQL and its processes. Everything is
 * in one folder: {@code DRIP_HOME}, else {@code /var/lib/drip-ledger} for root and {@code
 * ~/.local/share/drip-ledger} for others. A process is only ever stopped if the id in our file
 * still is the program we started.
 */
final class Installation {
  private static final int START_SECONDS = 90;

  private final Path home;

  Installation() throws IOException {
    String set = System.getenv("DRIP_HOME");
    String user = System.getProperty("user.name");
    home =
        set != null
            ? Path.of(set).toAbsolutePath()
            : user.equals("root")
                ? Path.of("/var/lib/drip-ledger")
                : Path.of(System.getProperty("user.home"), ".local", "share", "drip-ledger");
    Files.createDirectories(home);
  }

  /** In a folder that is there, for tests. */
  Installation(Path home) {
    this.home = home;
  }

  Path home() {
    return home;
  }

  Path serviceLog() {
    return home.resolve("service").resolve("service.log");
  }

  /** The token that the owner was given at the first start; null if this user cannot read it. */
  String ownerToken() throws IOException {
    Path file = home.resolve("service").resolve("owner.token");
    return Files.isReadable(file) ? Files.readString(file).strip() : null;
  }

  private static boolean root() {
    return "root".equals(System.getProperty("user.name"));
  }

  /** The service's own folder; for root it is of a user that can do nothing else. */
  private Path serviceFolder() throws IOException, InterruptedException {
    Path folder = Files.createDirectories(home.resolve("service"));
    for (String name : new String[] {"secrets.key", "service.log"}) {
      if (Files.exists(home.resolve(name)) && !Files.exists(folder.resolve(name))) {
        Files.move(home.resolve(name), folder.resolve(name));
      }
    }
    if (root()) {
      ServiceUser.own(folder);
    }
    return folder;
  }

  /** Letters and digits, new each time. */
  static String newPassword() {
    byte[] bytes = new byte[24];
    new SecureRandom().nextBytes(bytes);
    return HexFormat.of().formatHex(bytes);
  }

  /** A port that stays the same from start to start. */
  private int port(String name) throws IOException {
    Path port = home.resolve(name + ".port");
    if (!Files.exists(port)) {
      Files.writeString(port, "" + PostgresCluster.freePort());
    }
    return Integer.parseInt(Files.readString(port).strip());
  }

  private PostgresCluster postgres(String password) throws IOException {
    return new PostgresCluster(home.resolve("postgres"), port("postgres"), password, true, false);
  }

  /** The hub's operations database: a cluster of its own, as it would be in the world. */
  PostgresCluster operations(String password) throws IOException {
    return new PostgresCluster(
        home.resolve("operations"), port("operations"), password, true, true);
  }

  /** The hub's broker. */
  KafkaBroker broker(Path jars) throws IOException {
    return new KafkaBroker(home.resolve("broker"), jars, port("broker"), port("controller"));
  }

  void stopOperations() throws IOException, InterruptedException {
    if (Files.isDirectory(home.resolve("operations"))) {
      operations("none").stop();
    }
  }

  /** Whether the demo has ever been started here. */
  boolean hasHub() {
    return Files.isDirectory(home.resolve("broker"));
  }

  boolean postgresRuns() throws IOException, InterruptedException {
    return postgres("none").running();
  }

  static String java() {
    return Path.of(System.getProperty("java.home"), "bin", "java").toString();
  }

  /** Starts PostgreSQL and the service if they do not run, and waits until it answers. */
  void up(Service service, int port, Path serviceJar, String... settings)
      throws IOException, InterruptedException {
    if (process("service").isPresent()) {
      await(service, process("service").get());
      return;
    }
    String password = newPassword();
    PostgresCluster postgres = postgres(password).start();
    Path folder = serviceFolder();
    ServiceProgram program =
        root()
            ? ServiceProgram.of(serviceJar, home.resolve("program"))
            : ServiceProgram.of(serviceJar);
    if (root()) {
      ServiceUser.own(home.resolve("program"));
    }
    List<String> command = new ArrayList<>(root() ? ServiceUser.as() : List.of());
    command.addAll(
        program.command(
            "-XX:+UseG1GC",
            "-XX:MaxGCPauseMillis=30",
            // State lies in arrays of up to 1 MB; one of half a region takes a whole one.
            "-XX:G1HeapRegionSize=4m",
            // What is new is mostly kept: a young part as small as the pause asks, copied once.
            "-XX:+UnlockExperimentalVMOptions",
            "-XX:G1NewSizePercent=0",
            "-XX:MaxTenuringThreshold=1",
            "-XX:+UseTransparentHugePages",
            "-XX:+ExitOnOutOfMemoryError",
            // What the SQL library cannot plan it says; its simplifier asserts too much.
            "-ea:org.apache.calcite...",
            "-da:org.apache.calcite.rex.RexSimplify"));
    command.addAll(List.of(settings));
    Process process =
        start(
            "service",
            command,
            Map.of(
                "DRIP_DATABASE_URL",
                postgres.jdbcUrl(PostgresCluster.DATABASE),
                "DRIP_DATABASE_USER",
                PostgresCluster.USER,
                "DRIP_DATABASE_PASSWORD",
                password,
                "DRIP_SECRET_KEY_FILE",
                folder.resolve("secrets.key").toString(),
                "SERVER_PORT",
                "" + port,
                // The log is its own, and rolls; what is printed beside it is in service.out.
                "LOGGING_FILE_NAME",
                serviceLog().toString(),
                "LOGGING_THRESHOLD_CONSOLE",
                "OFF",
                "LOGGING_LOGBACK_ROLLINGPOLICY_MAX_FILE_SIZE",
                "20MB",
                "LOGGING_LOGBACK_ROLLINGPOLICY_MAX_HISTORY",
                "5"));
    await(service, process.toHandle());
    program.keepClasses(process.pid());
  }

  private void await(Service service, ProcessHandle process)
      throws IOException, InterruptedException {
    long end = System.nanoTime() + TimeUnit.SECONDS.toNanos(START_SECONDS);
    while (System.nanoTime() < end) {
      if (!process.isAlive()) {
        throw new Problem("the service did not start", "its log says why: " + serviceLog(), 1);
      }
      try {
        service.get("/actuator/health/readiness");
        return;
      } catch (SSLException e) {
        return; // it answers; whether it is trusted is asked for later
      } catch (Problem e) {
        Thread.sleep(200);
      }
    }
    throw new Problem(
        "the service did not answer within " + START_SECONDS + " s", "see " + serviceLog(), 1);
  }

  /**
   * Starts a program that outlives this one and the terminal it was started from, with its output
   * in a log. It gets a session of its own, or closing the terminal would end it too; {@code
   * setsid} replaces itself by the program, so the process is the program's.
   */
  Process start(String name, List<String> command, Map<String, String> environment)
      throws IOException {
    boolean logs = environment.containsKey("LOGGING_FILE_NAME");
    File log = home.resolve(name + (logs ? ".out" : ".log")).toFile();
    List<String> detached = new ArrayList<>(List.of("setsid"));
    detached.addAll(command);
    ProcessBuilder builder =
        new ProcessBuilder(detached)
            .directory(home.toFile())
            .redirectErrorStream(true)
            .redirectInput(new File("/dev/null"))
            .redirectOutput(ProcessBuilder.Redirect.appendTo(log));
    builder.environment().putAll(environment);
    Process process = builder.start();
    Files.writeString(
        home.resolve(name + ".pid"),
        process.pid() + " " + process.info().startInstant().map(Object::toString).orElse(""));
    return process;
  }

  /** The process we started under this name, if it still runs. */
  Optional<ProcessHandle> process(String name) throws IOException {
    Path file = home.resolve(name + ".pid");
    if (!Files.exists(file)) {
      return Optional.empty();
    }
    String[] parts = Files.readString(file).strip().split(" ");
    return ProcessHandle.of(Long.parseLong(parts[0]))
        .filter(ProcessHandle::isAlive)
        .filter(
            p ->
                parts.length > 1
                    && p.info()
                        .startInstant()
                        .map(i -> i.toString().equals(parts[1]))
                        .orElse(false));
  }

  /** Stops a process we started; answers whether there was one. */
  boolean stop(String name) throws IOException, InterruptedException {
    Optional<ProcessHandle> process = process(name);
    if (process.isPresent()) {
      process.get().destroy();
      for (int i = 0; i < 300 && process.get().isAlive(); i++) {
        Thread.sleep(100);
      }
      if (process.get().isAlive()) {
        process.get().destroyForcibly();
      }
    }
    Files.deleteIfExists(home.resolve(name + ".pid"));
    return process.isPresent();
  }

  void stopPostgres() throws IOException, InterruptedException {
    postgres("none").stop();
  }
}
