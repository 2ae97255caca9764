package dripledger.server;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.demo.PostgresCluster;
import dripledger.engine.Engine;
import dripledger.server.follow.Follows;
import java.io.BufferedReader;
import java.io.IOException;
import java.io.InputStreamReader;
import java.lang.management.ManagementFactory;
import java.lang.management.ThreadInfo;
import java.lang.management.ThreadMXBean;
import java.net.Socket;
import java.net.URLEncoder;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.TimeUnit;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
import org.springframework.boot.builder.SpringApplicationBuilder;
import org.springframework.context.ConfigurableApplicationContext;
import tools.jackson.databind.JsonNode;
import tools.jackson.databind.json.JsonMapper;

/** Following over HTTP, on the real service on loopback. */
class FollowTest {
  private static final JsonMapper JSON = new JsonMapper();
  private static PostgresCluster cluster;
  private static ConfigurableApplicationContext service;
  private static Engine engine;

  @BeforeAll
  static void start() throws Exception {
    cluster = PostgresCluster.temporary();
    service =
        new SpringApplicationBuilder(DripLedger.class)
            .run(
                "--server.port=0",
                "--drip.wire-port=-1",
                "--drip.warm-up-millis=0",
                "--drip.follow-retained-bytes=300000",
                "--drip.secret-key-file=target/follow-" + ProcessHandle.current().pid() + "/key",
                "--spring.datasource.url=" + cluster.jdbcUrl("drip"),
                "--spring.datasource.password=loopback");
    engine = service.getBean(Engine.class);
  }

  @AfterAll
  static void stop() {
    service.close();
    cluster.close();
  }

  /** One event as it was sent. */
  private record Event(String name, String id, JsonNode data) {
    String changes() {
      StringBuilder text = new StringBuilder();
      data.get("changes")
          .forEach(c -> text.append(c.get("weight")).append(c.get("row").toString()).append(' '));
      return text.toString().strip();
    }
  }

  /** A connection that follows, and reads only when it is asked. */
  private static final class Reader implements AutoCloseable {
    private final Socket socket;
    private final BufferedReader in;

    Reader(String sql, String lastId) throws IOException {
      int port = Integer.parseInt(service.getEnvironment().getProperty("local.server.port"));
      socket = new Socket();
      socket.setReceiveBufferSize(8 * 1024);
      socket.connect(new java.net.InetSocketAddress("127.0.0.1", port));
      socket.setSoTimeout(20_000);
      String request =
          "GET /api/v1/follow?sql="
              + URLEncoder.encode(sql, StandardCharsets.UTF_8)
              + " HTTP/1.1\r\nHost: 127.0.0.1\r\n"
              + (lastId == null ? "" : "Last-Event-ID: " + lastId + "\r\n")
              + "\r\n";
      socket.getOutputStream().write(request.getBytes(StandardCharsets.UTF_8));
      in =
          new BufferedReader(
              new InputStreamReader(socket.getInputStream(), StandardCharsets.UTF_8));
    }

    /** The next event; chunks and signs of life are passed over. */
    Event next() throws IOException {
      String name = null;
      String id = null;
      StringBuilder data = new StringBuilder();
      for (String line; (line = line()) != null; ) {
        if (line.startsWith("event: ")) {
          name = line.substring(7);
        } else if (line.startsWith("id: ")) {
          id = line.substring(4);
        } else if (line.startsWith("data: ")) {
          data.append(line.substring(6));
          while (!isWhole(data)) { // a chunk ended within it
            data.append(line());
          }
          return new Event(name, id, JSON.readTree(data.toString()));
        }
      }
      throw new IOException("it was hung up");
    }

    private String line() throws IOException {
      String line = in.readLine();
      while (line != null && line.matches("[0-9a-f]{1,5}|")) {
        line = in.readLine();
      }
      return line;
    }

    private static boolean isWhole(StringBuilder data) {
      try {
        return !JSON.readTree(data.toString()).isMissingNode();
      } catch (RuntimeException e) {
        return false;
      }
    }

    @Override
    public void close() throws IOException {
      socket.close();
    }
  }

  /** What the web server keeps of those who went is not found by those who come. */
  @Test
  void whoGoesTakesNobodyAlong() throws Exception {
    engine.execute("CREATE TABLE crowd (n INTEGER PRIMARY KEY)");
    String sql = "SELECT * FROM crowd";
    int n = 0;
    for (int round = 0; round < 60; round++) {
      List<Reader> going = new ArrayList<>();
      for (int i = 0; i < 4; i++) {
        going.add(new Reader(sql, null));
        going.get(i).next();
      }
      for (Reader each : going) {
        each.close();
      }
      engine.execute("INSERT INTO crowd VALUES (" + ++n + ")"); // which their sockets still take
      engine.execute("INSERT INTO crowd VALUES (" + ++n + ")");
      List<Reader> coming = new ArrayList<>();
      for (int i = 0; i < 4; i++) {
        coming.add(new Reader(sql, null));
        coming.get(i).next();
      }
      engine.execute("INSERT INTO crowd VALUES (" + ++n + ")");
      for (Reader each : coming) {
        while (!each.next().changes().equals("1[" + n + "]")) {
          // what had not reached it when it came
        }
        each.close();
      }
    }
    engine.execute("DROP TABLE crowd");
  }

  @Test
  void whoComesBackGoesOnWhereItWas() throws Exception {
    engine.execute("CREATE TABLE gate (gate VARCHAR PRIMARY KEY, n INTEGER)");
    engine.execute("INSERT INTO gate VALUES ('G01', 1)");
    String sql = "SELECT * FROM gate";
    String id;
    try (Reader reader = new Reader(sql, null)) {
      Event first = reader.next();
      assertThat(first.name()).isEqualTo("snapshot");
      assertThat(first.changes()).isEqualTo("1[\"G01\",1]");
      id = first.id();
    }
    engine.execute("INSERT INTO gate VALUES ('G02', 2)");
    engine.execute("UPDATE gate SET n = 3 WHERE gate = 'G02'");
    try (Reader reader = new Reader(sql, id)) {
      Event one = reader.next();
      assertThat(one.name()).isEqualTo("changes");
      assertThat(one.changes()).isEqualTo("1[\"G02\",2]");
      Event two = reader.next();
      assertThat(two.changes()).isEqualTo("-1[\"G02\",2] 1[\"G02\",3]");
      id = two.id();
      engine.execute("DELETE FROM gate WHERE gate = 'G01'");
      assertThat(reader.next().changes()).isEqualTo("-1[\"G01\",1]");
    }
    try (Reader reader = new Reader(sql, id)) {
      assertThat(reader.next().changes()).isEqualTo("-1[\"G01\",1]");
    }
    for (String other : List.of(id.replaceAll("@.*", "@00000000"), "7", "x@y", "@", "-1@" + id)) {
      try (Reader reader = new Reader(sql, other)) {
        Event event = reader.next();
        assertThat(event.name()).as(other).isEqualTo("snapshot");
        assertThat(event.changes()).isEqualTo("1[\"G02\",3]");
      }
    }
    try (Reader reader = new Reader(sql, null)) {
      reader.next();
      engine.execute("DROP TABLE gate");
      Event end = reader.next();
      assertThat(end.name()).isEqualTo("end");
      assertThat(end.data().toString()).contains("dropped");
    }
  }

  /** What nobody follows any more, or what has ended, costs nothing. */
  @Test
  void whatHasEndedIsAtRest() throws Exception {
    engine.execute("CREATE TABLE door (door VARCHAR PRIMARY KEY)");
    try (Reader reader = new Reader("SELECT * FROM door", null)) {
      reader.next();
      engine.execute("DROP TABLE door");
      assertThat(reader.next().name()).isEqualTo("end");
    }
    long before = followCpuNanos();
    TimeUnit.MILLISECONDS.sleep(1000);
    assertThat(followCpuNanos() - before).isLessThan(300_000_000);
  }

  /** What the threads that serve followers have used of the processors. */
  private static long followCpuNanos() {
    ThreadMXBean threads = ManagementFactory.getThreadMXBean();
    long nanos = 0;
    for (ThreadInfo thread : threads.getThreadInfo(threads.getAllThreadIds())) {
      if (thread != null && thread.getThreadName().equals("follow")) {
        nanos += threads.getThreadCpuTime(thread.getThreadId());
      }
    }
    return nanos;
  }

  @Test
  void manyFollowOneViewWithoutAThreadEach() throws Exception {
    engine.execute("CREATE TABLE belt (belt VARCHAR PRIMARY KEY, n INTEGER)");
    engine.execute("INSERT INTO belt VALUES ('B1', 1)");
    int before = Thread.activeCount();
    List<Reader> readers = new ArrayList<>();
    try {
      for (int i = 0; i < 1000; i++) {
        readers.add(new Reader("SELECT * FROM belt", null));
        if (i == 0) {
          readers.get(0).next();
        }
      }
      for (int i = 1; i < readers.size(); i++) {
        assertThat(readers.get(i).next().changes()).isEqualTo("1[\"B1\",1]");
      }
      engine.execute("UPDATE belt SET n = 2");
      for (Reader reader : readers) {
        assertThat(reader.next().changes()).isEqualTo("-1[\"B1\",1] 1[\"B1\",2]");
      }
      assertThat(Thread.activeCount()).isLessThan(before + 200);
      assertThat(service.getBean(Follows.class).count()).isGreaterThanOrEqualTo(1000);
    } finally {
      for (Reader reader : readers) {
        reader.close();
      }
    }
    engine.execute("UPDATE belt SET n = 3");
    for (int i = 0; i < 200 && service.getBean(Follows.class).count() > 50; i++) {
      engine.execute("UPDATE belt SET n = n + 1");
      TimeUnit.MILLISECONDS.sleep(100);
    }
    assertThat(service.getBean(Follows.class).count())
        .as("they are known to be gone")
        .isLessThan(50);
    engine.execute("DROP TABLE belt");
  }

  @Test
  void whoReadsTooSlowlyIsCutOffAndCanComeBack() throws Exception {
    engine.execute("CREATE TABLE note (id BIGINT PRIMARY KEY, text VARCHAR)");
    String sql = "SELECT * FROM note";
    try (Reader slow = new Reader(sql, null)) {
      String id = slow.next().id();
      for (int i = 0; i < 400; i++) {
        engine.execute("INSERT INTO note VALUES (" + i + ", '" + "x".repeat(20_000) + "')");
      }
      Event event = slow.next();
      int taken = 0;
      for (; event.name().equals("changes"); taken++) {
        id = event.id();
        event = slow.next();
      }
      assertThat(event.name()).isEqualTo("end");
      assertThat(event.data().toString()).contains("too far behind");
      assertThat(taken).isLessThan(400);
      try (Reader back = new Reader(sql, id)) { // what it missed is forgotten
        Event all = back.next();
        assertThat(all.name()).isEqualTo("snapshot");
        int rows = all.data().get("changes").size();
        assertThat(all.id()).as("the last event of an epoch carries its id").isNull();
        assertThat(all.data().get("more").booleanValue()).isTrue();
        while (all.data().has("more")) {
          all = back.next();
          rows += all.data().get("changes").size();
        }
        assertThat(rows).isEqualTo(400);
        assertThat(all.id()).contains("@");
      }
    }
    engine.execute("DROP TABLE note");
  }
}
