package dripledger.server.wire;

import dripledger.engine.Engine;
import dripledger.engine.access.Caller;
import dripledger.server.Settings;
import dripledger.server.access.Limits;
import dripledger.server.access.Tls;
import dripledger.server.access.Tokens;
import dripledger.server.access.Trust;
import java.io.IOException;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.net.ServerSocket;
import java.net.Socket;
import java.net.SocketTimeoutException;
import java.security.SecureRandom;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.Executors;
import java.util.concurrent.Future;
import java.util.concurrent.ScheduledExecutorService;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicInteger;
import javax.net.ssl.SSLContext;
import javax.net.ssl.SSLException;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import org.springframework.beans.factory.annotation.Value;
import org.springframework.context.SmartLifecycle;
import org.springframework.stereotype.Component;

/** Listens for standard clients, and gives each connection a thread of its own. */
@Component
final class WireServer implements SmartLifecycle {
  private static final Logger LOG = LoggerFactory.getLogger(WireServer.class);
  private static final int GREETING_MILLIS = 10_000;
  private static final long LOOK_MILLIS = 1_000;
  private static final long STUCK_NANOS = TimeUnit.SECONDS.toNanos(60);

  private final Engine engine;
  private final Settings settings;
  private final String address;
  private final WireCatalog catalog;
  private final Preparations preparations;
  private final Limits limits;
  private final Tls tls;
  private final Authentication authentication;
  private final SecureRandom random = new SecureRandom();
  private final AtomicInteger numbers = new AtomicInteger();
  private final Map<Integer, Open> open = new ConcurrentHashMap<>();
  private ServerSocket listening;
  private ScheduledExecutorService looking;
  private volatile boolean running;

  /** A connection; {@code session} is null until it is known who it is. */
  private static final class Open {
    private final Socket socket;
    private final int secret;
    private volatile WireSession session;
    private volatile Startup startup;

    Open(Socket socket, int secret) {
      this.socket = socket;
      this.secret = secret;
    }
  }

  WireServer(
      Engine engine,
      Settings settings,
      WireCatalog catalog,
      Tokens tokens,
      Trust trust,
      Limits limits,
      Tls tls,
      @Value("${server.address:127.0.0.1}") String address) {
    this.engine = engine;
    this.limits = limits;
    this.tls = tls;
    authentication = new Authentication(engine.access(), tokens, trust);
    tokens.onChange(this::putOut);
    this.settings = settings;
    this.catalog = catalog;
    this.address = address;
    preparations = new Preparations(catalog::fields);
  }

  Engine engine() {
    return engine;
  }

  WireCatalog catalog() {
    return catalog;
  }

  Preparations preparations() {
    return preparations;
  }

  int maxMessageBytes() {
    return settings.maxStatementBytes() + 1024;
  }

  String serverVersion() {
    return catalog.serverVersion();
  }

  /** The name that clients connect to. */
  String database() {
    return catalog.database();
  }

  /** What connections are encrypted with, or null. */
  SSLContext tls() {
    return tls.context();
  }

  Limits limits() {
    return limits;
  }

  @Override
  public void start() {
    if (settings.wirePort() < 0) {
      return;
    }
    try {
      listening = new ServerSocket();
      listening.setReuseAddress(true);
      listening.bind(
          new InetSocketAddress(InetAddress.getByName(address), settings.wirePort()), 512);
    } catch (IOException e) {
      throw new IllegalStateException(
          "cannot listen on port "
              + settings.wirePort()
              + " for SQL clients: "
              + e.getMessage()
              + "; set drip.wire-port to another, or to -1 for none",
          e);
    }
    running = true;
    catalog.start();
    Thread accepting = new Thread(this::accept, "wire-accept");
    accepting.setDaemon(true);
    accepting.start();
    looking =
        Executors.newSingleThreadScheduledExecutor(
            task -> {
              Thread thread = new Thread(task, "wire-look");
              thread.setDaemon(true);
              return thread;
            });
    Future<?> ignored =
        looking.scheduleWithFixedDelay(
            this::lookSafely, LOOK_MILLIS, LOOK_MILLIS, TimeUnit.MILLISECONDS);
    LOG.info("SQL clients connect to port {}", listening.getLocalPort());
  }

  private void accept() {
    while (running) {
      try {
        Socket socket = listening.accept();
        int number = numbers.updateAndGet(n -> n == Integer.MAX_VALUE ? 1 : n + 1);
        Open connection = new Open(socket, random.nextInt());
        boolean full = open.size() >= settings.maxWireConnections();
        if (full && open.size() >= settings.maxWireConnections() + 16) {
          socket.close(); // there is no thread left even to say so
          continue;
        }
        open.put(number, connection);
        Thread thread =
            new Thread(null, () -> serve(number, connection, full), "wire-" + number, 512 * 1024);
        thread.setDaemon(true);
        thread.start();
      } catch (IOException e) {
        if (running) {
          LOG.warn("a connection could not be taken: {}", e.getMessage());
          pause();
        }
      } catch (OutOfMemoryError e) { // no more threads
        LOG.warn("a connection could not be taken: {}", e.getMessage());
        pause();
      }
    }
  }

  private static void pause() {
    java.util.concurrent.locks.LockSupport.parkNanos(TimeUnit.MILLISECONDS.toNanos(100));
  }

  private void serve(int number, Open connection, boolean full) {
    try (Socket socket = connection.socket) {
      socket.setTcpNoDelay(true);
      socket.setKeepAlive(true);
      socket.setSoTimeout(GREETING_MILLIS);
      Startup startup = new Startup(this, socket);
      connection.startup = startup;
      try {
        Startup.Client client = startup.hear(number, connection.secret);
        if (client != null) {
          if (full) {
            throw new WireError(
                "53300",
                "as many connections as there may be are open",
                "close some, or raise drip.max-wire-connections");
          }
          converse(connection, startup, client);
        }
      } catch (WireError | WireInput.Malformed e) {
        WireError error =
            e instanceof WireError w ? w : new WireError("08P01", e.getMessage(), null);
        WireErrors.send(startup.out(), "FATAL", error, null);
        startup.out().flush();
      }
    } catch (SocketTimeoutException | SSLException e) {
      LOG.debug("a connection did not begin", e);
    } catch (IOException e) {
      if (!WireSession.isGone(e)) {
        LOG.debug("a connection ended", e);
      }
    } catch (RuntimeException e) {
      LOG.error("a connection failed", e);
    } finally {
      open.remove(number);
    }
  }

  private void converse(Open connection, Startup startup, Startup.Client client)
      throws IOException {
    WireOutput out = startup.out();
    if (tls.isOn() && !startup.isEncrypted() && !isHere(startup)) {
      throw new WireError(
          "28000", "connections from other machines are encrypted", "connect with sslmode=require");
    }
    Caller caller =
        authentication.ask(client.user(), startup.socket().getInetAddress(), startup.in(), out);
    refuseBeyond(caller);
    out.begin('R').int32(0).end();
    try (WireSession session = new WireSession(this, startup.in(), out, client, caller)) {
      connection.session = session;
      for (String name :
          new String[] {
            "server_version",
            "server_encoding",
            "client_encoding",
            "application_name",
            "DateStyle",
            "IntervalStyle",
            "TimeZone",
            "integer_datetimes",
            "standard_conforming_strings",
            "is_superuser",
            "session_authorization",
            "default_transaction_read_only",
            "in_hot_standby"
          }) {
        session.report(name);
      }
      out.begin('K').int32(client.number()).int32(client.secret()).end();
      startup.socket().setSoTimeout(0);
      session.run();
    }
  }

  private static boolean isHere(Startup startup) {
    return startup.socket().getInetAddress().isLoopbackAddress();
  }

  private void refuseBeyond(Caller caller) {
    long most = caller.bounds().connections();
    String role = caller.role();
    if (most > 0
        && open.values().stream()
                .filter(o -> o.session != null && o.session.caller().role().equals(role))
                .count()
            >= most) {
      throw new WireError(
          "53300",
          "role " + role + " has " + most + " connections open, which is as many as it may",
          "close some, or let the owner raise its connections");
    }
  }

  /** Ends connections of those who may no longer have one. */
  private void putOut() {
    open.forEach(
        (number, connection) -> {
          WireSession session = connection.session;
          // Whoever makes the first role has it answered, and is put out after it.
          if (session != null && !session.caller().isGood() && !session.isOfThisThread()) {
            session.cancel();
            end(number, connection, "its token is no longer good, or it has none and needs one");
          }
        });
  }

  /** Cancels what a connection does, if the secret is its own. */
  void cancel(int number, int secret) {
    Open connection = open.get(number);
    if (connection != null && connection.secret == secret && connection.session != null) {
      connection.session.cancel();
    }
  }

  private void lookSafely() {
    try {
      look();
    } catch (RuntimeException e) { // which would end it for good
      LOG.error("looking after connections", e);
    }
  }

  /** Ends connections that hold something and do nothing, and statements nobody waits for. */
  private void look() {
    putOut(); // tokens that have come to their end
    long now = System.nanoTime();
    for (Map.Entry<Integer, Open> entry : open.entrySet()) {
      WireSession session = entry.getValue().session;
      if (session == null) {
        continue;
      }
      long writing = session.output().writingSince();
      long idle = settings.idleTransactionMillis();
      if (writing != 0 && now - writing > STUCK_NANOS) {
        end(entry.getKey(), entry.getValue(), "its client takes no answer");
      } else if (idle > 0
          && session.idlesInTransaction()
          && now - session.since() > TimeUnit.MILLISECONDS.toNanos(idle)) {
        end(entry.getKey(), entry.getValue(), "its client holds a transaction and says nothing");
      } else if (session.doing() != null
          && now - session.since() > TimeUnit.MILLISECONDS.toNanos(LOOK_MILLIS)
          && entry.getValue().startup.in().hasGone(entry.getValue().startup.socket())) {
        session.cancel();
      }
    }
  }

  private static void end(int number, Open connection, String reason) {
    LOG.info("connection {} ends: {}", number, reason);
    try {
      connection.socket.close();
    } catch (IOException e) {
      LOG.debug("closing", e);
    }
  }

  @Override
  public void stop() {
    running = false;
    if (listening == null) {
      return;
    }
    try {
      listening.close();
    } catch (IOException e) {
      LOG.debug("closing", e);
    }
    looking.shutdownNow();
    open.forEach(
        (number, connection) -> {
          if (connection.session != null) {
            connection.session.cancel();
          }
          end(number, connection, "the service is shutting down");
        });
    catalog.stop();
  }

  @Override
  public boolean isRunning() {
    return running;
  }

  @Override
  public int getPhase() {
    return Integer.MAX_VALUE - 1;
  }
}
