package dripledger.server.access;

import dripledger.engine.access.Access;
import dripledger.engine.access.Caller;
import dripledger.engine.access.Role;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.server.records.PostgresAccess;
import dripledger.server.records.PostgresAccess.Kept;
import dripledger.server.records.RecordsException;
import java.nio.charset.StandardCharsets;
import java.security.SecureRandom;
import java.time.Duration;
import java.time.Instant;
import java.time.temporal.ChronoUnit;
import java.util.ArrayList;
import java.util.Base64;
import java.util.HexFormat;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.CopyOnWriteArrayList;
import java.util.concurrent.ExecutorService;
import java.util.concurrent.Executors;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * What roles prove themselves by. A token is random and kept only as what it can be checked by; it
 * is good for HTTP, and as the password of its role for SQL clients. Safe from any thread.
 */
public final class Tokens implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(Tokens.class);
  private static final String BEGINNING = "drip_";
  private static final int RANDOM_BYTES = 32;
  private static final int MOST = 10_000;
  private static final int MOST_CHARS = 200;
  private static final long PASSING = -1;

  private final Access access;
  private final PostgresAccess records;
  private final SecureRandom random = new SecureRandom();
  private final byte[] unknown; // to salt who is not there
  private final Map<String, Kept> byDigest = new ConcurrentHashMap<>();
  private final Map<Long, Kept> byId = new ConcurrentHashMap<>();
  private final Map<Long, Instant> used = new ConcurrentHashMap<>();
  private final List<Runnable> listeners = new CopyOnWriteArrayList<>();
  private final ExecutorService noting =
      Executors.newSingleThreadExecutor(
          task -> {
            Thread thread = new Thread(task, "tokens");
            thread.setDaemon(true);
            return thread;
          });

  /** A token that was just made: what is never shown again. */
  public record Made(Kept kept, String token) {}

  /**
   * @param unknown a secret of this service, by which who is not there looks as if it were
   */
  public Tokens(Access access, PostgresAccess records, byte[] unknown) {
    this.access = access;
    this.records = records;
    this.unknown = unknown.clone();
    records.kept().forEach(this::keep);
    access.onChange(this::rolesChanged);
  }

  private void rolesChanged() {
    byDigest.values().removeIf(kept -> !access.hasRole(kept.role()));
    byId.values().removeIf(kept -> !access.hasRole(kept.role()));
    listeners.forEach(Runnable::run);
  }

  /** What to run when a token, a role or a grant has changed; must be quick. */
  public void onChange(Runnable listener) {
    listeners.add(listener);
  }

  private void keep(Kept kept) {
    byDigest.put(key(kept.digest()), kept);
    byId.put(kept.id(), kept);
  }

  private static String key(byte[] digest) {
    return HexFormat.of().formatHex(digest);
  }

  private static byte[] digest(String token) {
    return Scram.sha256(token.getBytes(StandardCharsets.UTF_8));
  }

  // ---- proving

  /** The token, if it is good now; else null. */
  public Kept find(String token) {
    if (token.length() > MOST_CHARS) {
      return null;
    }
    Kept kept = byDigest.get(key(digest(token)));
    return kept != null && kept.isGood(Instant.now()) ? kept : null;
  }

  /** Whether a token is still good. */
  public boolean isGood(long id) {
    Kept kept = byId.get(id);
    return kept != null && kept.isGood(Instant.now());
  }

  /** Somebody who has proven to be a token's role. */
  public Caller caller(Kept kept, String from) {
    if (kept.id() != PASSING) {
      noteUse(kept);
    }
    return access.caller(
        kept.role(), "token " + kept.name() + " from " + from, () -> isGood(kept.id()));
  }

  /** To the minute, and not on the thread of who waits. */
  private void noteUse(Kept kept) {
    Instant minute = Instant.now().truncatedTo(ChronoUnit.MINUTES);
    if (!minute.equals(used.put(kept.id(), minute))) {
      noting.execute(
          () -> {
            try {
              records.used(kept.id(), minute);
            } catch (RecordsException e) {
              LOG.debug("when a token was used is not noted", e);
            }
          });
    }
  }

  /** The tokens of a role that are good now. */
  public List<Kept> good(String role) {
    Instant now = Instant.now();
    return byId.values().stream().filter(k -> k.role().equals(role) && k.isGood(now)).toList();
  }

  /** What a role's passwords are salted with; for one that is not there, always the same too. */
  public byte[] salt(String role) {
    byte[] salt = access.hasRole(role) ? records.salt(role) : null;
    return salt != null ? salt : java.util.Arrays.copyOf(Scram.hmac(unknown, role), 16);
  }

  // ---- making

  /**
   * Makes a token.
   *
   * @param name by which it is told from others of its role
   * @param lasts null for ever
   */
  public synchronized Made make(String role, String name, Duration lasts, String madeBy) {
    access.role(role);
    if (name == null || name.isBlank() || name.length() > MOST_CHARS) {
      throw new EngineException(
          Code.INVALID, "a token has a name, so that it can be told from others", null);
    }
    if (byDigest.size() >= MOST) {
      throw new EngineException(
          Code.LIMIT, "there are " + MOST + " tokens already", "drop roles that nobody needs");
    }
    if (good(role).stream().anyMatch(k -> k.name().equals(name))) {
      throw new EngineException(
          Code.ALREADY_EXISTS,
          "role " + role + " has a token \"" + name + "\" already",
          "choose another name, rotate that one, or revoke it first");
    }
    return add(role, name, lasts, madeBy);
  }

  private Made add(String role, String name, Duration lasts, String madeBy) {
    byte[] bytes = new byte[RANDOM_BYTES];
    random.nextBytes(bytes);
    String token = BEGINNING + Base64.getUrlEncoder().withoutPadding().encodeToString(bytes);
    Scram.Keys keys = Scram.keys(token, salt(role));
    Instant now = Instant.now();
    Kept kept =
        new Kept(
            0,
            role,
            name,
            digest(token),
            keys.stored(),
            keys.server(),
            now,
            madeBy,
            lasts == null ? null : now.plus(lasts),
            null,
            null);
    Kept stored = with(kept, records.add(kept), kept.expires(), null);
    keep(stored);
    return new Made(stored, token);
  }

  private static Kept with(Kept k, long id, Instant expires, Instant revoked) {
    return new Kept(
        id,
        k.role(),
        k.name(),
        k.digest(),
        k.storedKey(),
        k.serverKey(),
        k.made(),
        k.madeBy(),
        expires,
        revoked,
        k.used());
  }

  /** A token of the owner for this process to ask itself; it is kept nowhere, and not listed. */
  public String passing(Duration lasts) {
    byte[] bytes = new byte[RANDOM_BYTES];
    random.nextBytes(bytes);
    String token = BEGINNING + Base64.getUrlEncoder().withoutPadding().encodeToString(bytes);
    byte[] none = new byte[0];
    Instant now = Instant.now();
    Instant end = now.plus(lasts);
    byte[] digest = digest(token);
    byDigest.put(
        key(digest),
        new Kept(PASSING, Role.OWNER, "passing", digest, none, none, now, "", end, null, now));
    return token;
  }

  /** The token of this number. */
  public Kept token(long id) {
    Kept kept = byId.get(id);
    if (kept == null) {
      throw new EngineException(
          Code.NOT_FOUND, "no token " + id, "drip token lists those there are");
    }
    return kept;
  }

  /**
   * Makes another in the place of one, which stays good for a while.
   *
   * @param overlap for how long both are good
   */
  public synchronized Made rotate(long id, Duration overlap, Duration lasts, String madeBy) {
    Kept old = token(id);
    Instant now = Instant.now();
    if (!old.isGood(now)) {
      throw new EngineException(
          Code.INVALID, "token " + id + " is no longer good", "make a new one");
    }
    Made made = add(old.role(), old.name(), lasts, madeBy);
    Instant end = now.plus(overlap);
    if (old.expires() == null || old.expires().isAfter(end)) {
      records.expire(id, end);
      keep(with(old, id, end, null));
    }
    return made;
  }

  /** Ends a token; whoever came with it is put out. */
  public synchronized void revoke(long id) {
    Kept kept = token(id);
    Instant now = Instant.now();
    records.revoke(id, now);
    keep(with(kept, id, kept.expires(), now));
    listeners.forEach(Runnable::run);
  }

  /** All tokens, oldest first. */
  public List<Kept> all() {
    List<Kept> all = new ArrayList<>(byId.values());
    all.sort(java.util.Comparator.comparingLong(Kept::id));
    return all;
  }

  /** When a token was used last, to the minute; or null. */
  public Instant used(Kept kept) {
    return used.getOrDefault(kept.id(), kept.used());
  }

  @Override
  public void close() {
    noting.shutdown();
  }
}
