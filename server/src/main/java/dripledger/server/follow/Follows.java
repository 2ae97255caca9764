package dripledger.server.follow;

import dripledger.engine.Engine;
import dripledger.engine.access.Caller;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.server.Settings;
import dripledger.server.access.Tokens;
import jakarta.servlet.AsyncContext;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpServletResponse;
import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.security.SecureRandom;
import java.util.HashMap;
import java.util.HexFormat;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.Executors;
import java.util.concurrent.Future;
import java.util.concurrent.LinkedBlockingQueue;
import java.util.concurrent.ScheduledExecutorService;
import java.util.concurrent.ThreadPoolExecutor;
import java.util.concurrent.TimeUnit;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import org.springframework.context.SmartLifecycle;
import org.springframework.stereotype.Component;
import tools.jackson.databind.json.JsonMapper;

/** All queries that are followed over HTTP, and who follows them. Safe from any thread. */
@Component
public class Follows implements SmartLifecycle {
  private static final Logger LOG = LoggerFactory.getLogger(Follows.class);
  private static final long LOOK_MILLIS = 5_000;
  private static final long STUCK_NANOS = TimeUnit.SECONDS.toNanos(60);
  private static final int WRITERS = 2;
  private static final byte[] GREETING = "retry: 1000\n\n".getBytes(StandardCharsets.UTF_8);

  private final Engine engine;
  private final Settings settings;
  private final JsonMapper mapper;
  private final FollowedQuery.Bounds bounds;
  private final Map<String, FollowedQuery> queries = new ConcurrentHashMap<>();
  private final ExecutorService writers =
      new ThreadPoolExecutor( // at the end what is still handed to it is nobody's concern
          WRITERS,
          WRITERS,
          0,
          TimeUnit.SECONDS,
          new LinkedBlockingQueue<>(),
          Follows::thread,
          new ThreadPoolExecutor.DiscardPolicy());
  private final ScheduledExecutorService looking =
      Executors.newSingleThreadScheduledExecutor(Follows::thread);
  private volatile boolean running;

  Follows(Engine engine, Settings settings, Tokens tokens, JsonMapper mapper) {
    tokens.onChange(this::putOutSoon);
    this.engine = engine;
    this.settings = settings;
    this.mapper = mapper;
    byte[] random = new byte[4];
    new SecureRandom().nextBytes(random);
    bounds =
        new FollowedQuery.Bounds(
            settings.followRetainedMillis(),
            settings.followRetainedBytes(),
            HexFormat.of().formatHex(random));
  }

  private static Thread thread(Runnable task) {
    Thread thread = new Thread(task, "follow");
    thread.setDaemon(true);
    return thread;
  }

  /**
   * Answers a request with what follows.
   *
   * @param lastId the id of the last event that the client has, or null
   * @throws EngineException if the query cannot be followed
   */
  public void follow(
      String sql,
      String lastId,
      Caller caller,
      HttpServletRequest request,
      HttpServletResponse response)
      throws IOException, InterruptedException {
    if (count() >= settings.maxFollowers()) {
      throw new EngineException(
          Code.LIMIT,
          "too many followers at the same time",
          "close some, or raise drip.max-followers");
    }
    long most = caller.bounds().connections();
    if (most > 0 && count(caller.role()) >= most) {
      throw new EngineException(
          Code.LIMIT,
          "role " + caller.role() + " follows as much as it may at the same time",
          "close some, or let the owner raise its connections");
    }
    long access = engine.access().version();
    if (!caller.isOwner()) { // before it is known who follows it too
      engine.followed(sql.strip(), Map.of(), caller);
    }
    FollowedQuery query = query(sql.strip());
    FollowedQuery.Start start = resumed(query, lastId);
    for (int i = 0; start == null && i < 3; i++) { // much may come while the rows are gathered
      start = query.begin();
    }
    if (start == null) {
      throw new EngineException(
          Code.UNAVAILABLE,
          "more changes than can be kept until all rows are sent",
          "raise drip.follow-retained-bytes, or follow fewer rows");
    }
    response.setContentType("text/event-stream;charset=utf-8");
    response.setHeader("Cache-Control", "no-store");
    response.setHeader("X-Accel-Buffering", "no");
    AsyncContext context = request.startAsync();
    context.setTimeout(0);
    Follower follower = new Follower(context, query, start, caller);
    query.join(follower);
    if (access != engine.access().version()) { // what was revoked meanwhile has not met it
      putOutSoon();
    }
    follower.begin(GREETING, start.before());
    if (query.hasEnded()) { // before it joined, so that nobody has told it
      follower.endWith("\"it has ended meanwhile; connect again\"");
      follower.write();
    }
  }

  private FollowedQuery query(String sql) throws InterruptedException {
    FollowedQuery known = queries.get(sql);
    if (known != null && !known.hasEnded()) {
      return known;
    }
    if (queries.size() >= settings.maxFollowedQueries()) {
      makeRoom();
    }
    // Its rows may take a while, for which the others do not wait.
    FollowedQuery made = new FollowedQuery(engine, mapper, sql, bounds, writers);
    synchronized (queries) {
      known = queries.get(sql);
      if (known == null || known.hasEnded()) {
        queries.put(sql, made);
        return made;
      }
    }
    made.end("another was quicker");
    return known;
  }

  /** Gives up what is only kept for those who may come back. */
  private void makeRoom() {
    for (Map.Entry<String, FollowedQuery> each : queries.entrySet()) {
      if (each.getValue().hasEnded() || each.getValue().followers().isEmpty()) {
        each.getValue().end("nobody follows it");
        queries.remove(each.getKey());
        return;
      }
    }
    throw new EngineException(
        Code.LIMIT,
        "too many different queries are followed at the same time",
        "follow a view, which all can share, or raise drip.max-followed-queries");
  }

  private FollowedQuery.Start resumed(FollowedQuery query, String lastId) {
    int at = lastId == null ? -1 : lastId.indexOf('@');
    if (at < 1 || at > 18 || !lastId.substring(at + 1).equals(bounds.instance())) {
      return null;
    }
    try {
      return query.resume(Long.parseLong(lastId.substring(0, at)));
    } catch (NumberFormatException e) {
      return null;
    }
  }

  /** How many follow. */
  public int count() {
    return queries.values().stream().mapToInt(q -> q.followers().size()).sum();
  }

  private long count(String role) {
    return queries.values().stream()
        .flatMap(q -> q.followers().stream())
        .filter(f -> f.caller().role().equals(role))
        .count();
  }

  private void putOutSoon() {
    if (!looking.isShutdown()) {
      Future<?> ignored = looking.submit(this::putOut);
    }
  }

  /** Ends those who may no longer follow. */
  private void putOut() {
    queries.forEach(
        (sql, query) -> {
          Map<String, String> why = new HashMap<>(); // by role
          for (Follower follower : query.followers()) {
            Caller caller = follower.caller();
            String reason =
                !caller.isGood()
                    ? "its token is no longer good"
                    : why.computeIfAbsent(caller.role(), role -> refusal(sql, caller));
            if (!reason.isEmpty()) {
              follower.endWith(mapper.writeValueAsString(reason));
              follower.write();
            }
          }
        });
  }

  /** Why somebody may not follow a query; empty if that is allowed. */
  private String refusal(String sql, Caller caller) {
    try {
      if (!caller.isOwner()) {
        engine.followed(sql, Map.of(), caller);
      }
      return "";
    } catch (EngineException e) {
      return e.getMessage();
    }
  }

  private void look() {
    try {
      for (Map.Entry<String, FollowedQuery> each : queries.entrySet()) {
        FollowedQuery query = each.getValue();
        query.forget();
        if (query.isLeft()) {
          query.end("nobody follows it");
        }
        if (query.hasEnded()) {
          queries.remove(each.getKey(), query);
        }
        for (Follower follower : query.followers()) {
          if (!follower.caller().isGood()) {
            follower.endWith("\"its token is no longer good\"");
          }
          follower.signOfLife();
          follower.write();
          if (follower.stuckNanos() > STUCK_NANOS) {
            follower.finish();
          }
        }
      }
    } catch (RuntimeException e) {
      LOG.error("looking after followers", e);
    }
  }

  @Override
  public void start() {
    running = true;
    Future<?> ignored =
        looking.scheduleWithFixedDelay(this::look, LOOK_MILLIS, LOOK_MILLIS, TimeUnit.MILLISECONDS);
  }

  // Stopped before the web server waits for open requests, which these would never let end.
  @Override
  public void stop() {
    running = false;
    looking.shutdownNow();
    queries.values().forEach(query -> query.end("the service is shutting down"));
    writers.shutdown();
  }

  @Override
  public boolean isRunning() {
    return running;
  }

  @Override
  public int getPhase() {
    return Integer.MAX_VALUE;
  }
}
