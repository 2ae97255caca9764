package dripledger.demo;

import com.sun.net.httpserver.HttpExchange;
import com.sun.net.httpserver.HttpServer;
import java.io.IOException;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.Executors;
import java.util.concurrent.TimeUnit;

/**
 * Somebody on loopback who takes what a delivery posts, and prints it: for the demo, for tests and
 * for trying things out. What it answers, and how slowly, can be set. Thread-safe.
 */
public final class WebhookStandIn implements AutoCloseable {
  private static final int SHOWN = 500; // characters of a body

  private final HttpServer server;
  private final List<Post> posts = new ArrayList<>();
  private volatile int status = 200;
  private volatile long delayMillis;

  /**
   * A request.
   *
   * @param key its idempotency key as it stands in the header
   * @param digest of the body, as it stands in the header
   * @param signatureInput what is signed, or null
   * @param signature or null
   * @param answered the status it was answered with
   */
  public record Post(
      String path,
      String key,
      String digest,
      String signatureInput,
      String signature,
      String body,
      int answered) {}

  /**
   * @param port to listen on, or 0 for any
   */
  public WebhookStandIn(int port) throws IOException {
    server = HttpServer.create(new InetSocketAddress(InetAddress.getLoopbackAddress(), port), 0);
    server.setExecutor(
        Executors.newCachedThreadPool(
            task -> {
              Thread thread = new Thread(task, "webhook");
              thread.setDaemon(true);
              return thread;
            }));
    server.createContext("/", this::take);
    server.start();
  }

  /** Argument: the port. Prints what it is sent until it is stopped. */
  public static void main(String[] args) throws IOException {
    WebhookStandIn standIn = new WebhookStandIn(Integer.parseInt(args[0]));
    System.out.println("listening at " + standIn.url());
  }

  public String url() {
    return "http://127.0.0.1:" + server.getAddress().getPort();
  }

  private void take(HttpExchange exchange) throws IOException {
    byte[] body = exchange.getRequestBody().readAllBytes();
    pause();
    int answer = status;
    var headers = exchange.getRequestHeaders();
    Post post =
        new Post(
            exchange.getRequestURI().getPath(),
            headers.getFirst("Idempotency-Key"),
            headers.getFirst("Content-Digest"),
            headers.getFirst("Signature-Input"),
            headers.getFirst("Signature"),
            new String(body, StandardCharsets.UTF_8),
            answer);
    synchronized (this) {
      posts.add(post);
    }
    String shown = post.body().substring(0, Math.min(SHOWN, post.body().length()));
    System.out.println(post.path() + " " + post.key() + " " + shown);
    byte[] said = (answer < 300 ? "" : "told to answer so").getBytes(StandardCharsets.UTF_8);
    exchange.sendResponseHeaders(answer, said.length == 0 ? -1 : said.length);
    exchange.getResponseBody().write(said);
    exchange.close();
  }

  private void pause() {
    try {
      TimeUnit.MILLISECONDS.sleep(delayMillis);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }

  /** What it answers from now on. */
  public void answer(int newStatus, long newDelayMillis) {
    status = newStatus;
    delayMillis = newDelayMillis;
  }

  /** What it was sent, the first first. */
  public synchronized List<Post> posts() {
    return List.copyOf(posts);
  }

  @Override
  public void close() {
    server.stop(0);
  }
}
