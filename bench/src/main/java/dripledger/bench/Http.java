package dripledger.bench;

import dripledger.demo.PostgresCluster;
import dripledger.engine.Engine;
import dripledger.server.DripLedger;
import java.io.IOException;
import java.io.InputStream;
import java.io.OutputStream;
import java.net.Socket;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.SplittableRandom;
import org.springframework.boot.builder.SpringApplicationBuilder;
import org.springframework.context.ConfigurableApplicationContext;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.RestController;

/**
 * Look-ups by key over HTTP, beside a controller of the same server that answers as many bytes and
 * does nothing: what is left of its speed. Cold (the first second) and after a warm-up of {@value
 * #WARM_UP} requests of each.
 */
final class Http {
  private static final int WARM_UP = 150_000;
  private static final int ROWS = 100_000;

  private final int rounds;
  private final int seconds;

  Http(int rounds, int seconds) {
    this.rounds = rounds;
    this.seconds = seconds;
  }

  /** What does nothing. */
  @RestController
  static class Trivial {
    @GetMapping(path = "/trivial/{key}", produces = "application/json")
    String answer(@PathVariable String key) {
      return "{\"epoch\":123456,\"row\":{\"parcel\":" + key + ",\"gate\":\"G07\",\"grams\":1840}}";
    }
  }

  void run() throws Exception {
    try (PostgresCluster cluster = PostgresCluster.temporary();
        ConfigurableApplicationContext service =
            new SpringApplicationBuilder(DripLedger.class, Trivial.class)
                .run(
                    "--server.port=0",
                    "--drip.wire-port=-1",
                    "--drip.warm-up-millis=0",
                    "--drip.secret-key-file=" + Files.createTempDirectory("drip") + "/key",
                    "--spring.datasource.url=" + cluster.jdbcUrl("drip"),
                    "--spring.datasource.password=loopback")) {
      Engine engine = service.getBean(Engine.class);
      engine.execute(
          "CREATE TABLE parcel (parcel BIGINT PRIMARY KEY, gate VARCHAR, grams INTEGER)");
      engine.execute(
          "INSERT INTO parcel SELECT n, 'G07', 1840 FROM generate_series(1, "
              + ROWS
              + ") AS s (n)");
      int port = Integer.parseInt(service.getEnvironment().getProperty("local.server.port", "0"));
      String[] paths = {"/api/v1/views/parcel/rows/", "/trivial/"};
      System.out.printf("%nLook-ups over HTTP, %,d rows, requests a second%n", ROWS);
      System.out.printf(
          "cold, 4 clients: look-up %,.0f, trivial %,.0f%n",
          ask(port, paths[0], 4, 1), ask(port, paths[1], 4, 1));
      for (String path : paths) {
        warm(port, path);
      }
      for (int clients : new int[] {1, 4, 16}) {
        List<Double> lookUps = new ArrayList<>();
        List<Double> trivial = new ArrayList<>();
        for (int round = 0; round < rounds; round++) {
          lookUps.add(ask(port, paths[0], clients, seconds));
          trivial.add(ask(port, paths[1], clients, seconds));
        }
        System.out.printf(
            "warm, %2d clients: look-up %,8.0f, trivial %,8.0f, ratio %.2f (aim 0.80)%n",
            clients, median(lookUps), median(trivial), median(lookUps) / median(trivial));
      }
    }
  }

  private static double median(List<Double> values) {
    double[] sorted = values.stream().mapToDouble(d -> d).sorted().toArray();
    return sorted[sorted.length / 2];
  }

  private static void warm(int port, String path) throws Exception {
    try (Client client = new Client(port)) {
      SplittableRandom random = new SplittableRandom(7);
      for (int i = 0; i < WARM_UP; i++) {
        client.ask(path + (1 + random.nextInt(ROWS)));
      }
    }
  }

  /** Answers a second. */
  private static double ask(int port, String path, int clients, int seconds) throws Exception {
    long[] done = new long[clients];
    Exception[] failed = new Exception[1];
    Thread[] threads = new Thread[clients];
    long begin = System.nanoTime();
    long end = begin + seconds * 1_000_000_000L;
    for (int c = 0; c < clients; c++) {
      int number = c;
      threads[c] =
          new Thread(
              () -> {
                SplittableRandom random = new SplittableRandom(number);
                try (Client client = new Client(port)) {
                  while (System.nanoTime() < end) {
                    client.ask(path + (1 + random.nextInt(ROWS)));
                    done[number]++;
                  }
                } catch (IOException e) {
                  failed[0] = e;
                }
              });
      threads[c].start();
    }
    for (Thread thread : threads) {
      thread.join();
    }
    if (failed[0] != null) {
      throw failed[0];
    }
    return Arrays.stream(done).sum() / ((System.nanoTime() - begin) / 1e9);
  }

  /** One connection that stays open; as little work of its own as can be. */
  private static final class Client implements AutoCloseable {
    private static final byte[] LENGTH = "\ncontent-length:".getBytes(StandardCharsets.US_ASCII);

    private final int port;
    private final byte[] buffer = new byte[16_384];
    private Socket socket;
    private OutputStream out;
    private InputStream in;

    Client(int port) throws IOException {
      this.port = port;
      connect();
    }

    private void connect() throws IOException {
      socket = new Socket("127.0.0.1", port);
      socket.setTcpNoDelay(true);
      out = socket.getOutputStream();
      in = socket.getInputStream();
    }

    void ask(String path) throws IOException {
      out.write(
          ("GET " + path + " HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
              .getBytes(StandardCharsets.US_ASCII));
      int read = 0;
      while (true) {
        int more = in.read(buffer, read, buffer.length - read);
        if (more < 0) { // it has answered as often as it does on one connection
          socket.close();
          connect();
          ask(path);
          return;
        }
        read += more;
        int body = body(read);
        if (body > 0 && read >= body + length(body)) {
          if (buffer[9] != '2') {
            throw new IOException(new String(buffer, 0, read, StandardCharsets.UTF_8));
          }
          return;
        }
      }
    }

    /** Where the body begins; 0 if it is not there yet. */
    private int body(int read) {
      for (int i = 3; i < read; i++) {
        if (buffer[i] == '\n' && buffer[i - 1] == '\r' && buffer[i - 2] == '\n') {
          return i + 1;
        }
      }
      return 0;
    }

    private int length(int body) throws IOException {
      for (int i = 0; i < body; i++) {
        int same = 0;
        while (same < LENGTH.length && Character.toLowerCase(buffer[i + same]) == LENGTH[same]) {
          same++;
        }
        if (same == LENGTH.length) {
          int length = 0;
          for (int at = i + same; buffer[at] != '\r'; at++) {
            if (buffer[at] != ' ') {
              length = length * 10 + buffer[at] - '0';
            }
          }
          return length;
        }
      }
      throw new IOException("an answer without its length");
    }

    @Override
    public void close() throws IOException {
      socket.close();
    }
  }
}
