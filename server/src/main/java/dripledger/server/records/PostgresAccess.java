package dripledger.server.records;

import dripledger.engine.access.AccessStore;
import dripledger.engine.access.Grant;
import dripledger.engine.access.Privilege;
import dripledger.engine.access.Role;
import dripledger.engine.access.Target;
import java.security.SecureRandom;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.time.Instant;
import java.time.LocalDateTime;
import java.time.OffsetDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import javax.sql.DataSource;

/** Roles, grants and tokens in PostgreSQL. Safe from any thread. */
public final class PostgresAccess implements AccessStore {
  private static final int SALT_BYTES = 16;

  private final DataSource dataSource;
  private final Journal journal;

  public PostgresAccess(DataSource dataSource, Journal journal) {
    this.dataSource = dataSource;
    this.journal = journal;
  }

  @FunctionalInterface
  private interface Work<T> {
    T with(Connection c) throws SQLException;
  }

  private <T> T in(Work<T> work) {
    try (Connection c = dataSource.getConnection()) {
      return work.with(c);
    } catch (SQLException e) {
      throw new RecordsException("roles and tokens cannot be read or written", e);
    }
  }

  private void run(String sql, Object... values) {
    in(
        c -> {
          try (PreparedStatement s = c.prepareStatement(sql)) {
            for (int i = 0; i < values.length; i++) {
              s.setObject(i + 1, values[i]);
            }
            return s.executeUpdate();
          }
        });
  }

  @FunctionalInterface
  private interface Row<T> {
    T of(ResultSet r) throws SQLException;
  }

  private <T> List<T> rows(String sql, Row<T> row) {
    return in(
        c -> {
          List<T> rows = new ArrayList<>();
          try (PreparedStatement s = c.prepareStatement(sql);
              ResultSet r = s.executeQuery()) {
            while (r.next()) {
              rows.add(row.of(r));
            }
          }
          return rows;
        });
  }

  // ---- roles

  @Override
  public List<Role> roles() {
    return rows(
        "SELECT name, owner, shared, statement_millis, max_rows, max_memory, max_body, per_second,"
            + " connections FROM role ORDER BY made",
        r ->
            new Role(
                r.getString(1),
                r.getBoolean(2),
                r.getBoolean(3),
                new Role.Bounds(
                    r.getLong(4),
                    r.getLong(5),
                    r.getLong(6),
                    r.getLong(7),
                    r.getLong(8),
                    r.getLong(9))));
  }

  @Override
  public void put(Role role) {
    byte[] salt = new byte[SALT_BYTES];
    new SecureRandom().nextBytes(salt);
    Role.Bounds b = role.bounds();
    run(
        "INSERT INTO role (name, owner, shared, statement_millis, max_rows, max_memory, max_body,"
            + " per_second, connections, salt) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"
            + " ON CONFLICT (name) DO UPDATE SET shared = excluded.shared,"
            + " statement_millis = excluded.statement_millis, max_rows = excluded.max_rows,"
            + " max_memory = excluded.max_memory, max_body = excluded.max_body,"
            + " per_second = excluded.per_second, connections = excluded.connections",
        role.name(),
        role.owner(),
        role.shared(),
        b.statementMillis(),
        b.maxRows(),
        b.maxMemory(),
        b.maxBody(),
        b.perSecond(),
        b.connections(),
        salt);
  }

  @Override
  public void drop(String role) {
    run("DELETE FROM role WHERE name = ?", role);
  }

  /** What the passwords of a role are salted with. */
  public byte[] salt(String role) {
    return in(
        c -> {
          try (PreparedStatement s = c.prepareStatement("SELECT salt FROM role WHERE name = ?")) {
            s.setString(1, role);
            try (ResultSet r = s.executeQuery()) {
              return r.next() ? r.getBytes(1) : null;
            }
          }
        });
  }

  // ---- grants

  @Override
  public List<Grant> grants() {
    return rows(
        "SELECT role, privilege, schema, name FROM role_grant",
        r ->
            new Grant(
                r.getString(1),
                Privilege.valueOf(r.getString(2).toUpperCase(Locale.ROOT)),
                new Target(r.getString(3), r.getString(4))));
  }

  @Override
  public void grant(List<Grant> added, List<Grant> removed) {
    in(
        c -> {
          c.setAutoCommit(false);
          try {
            batch(
                c,
                "INSERT INTO role_grant (role, privilege, schema, name) VALUES (?, ?, ?, ?)"
                    + " ON CONFLICT DO NOTHING",
                added);
            batch(
                c,
                "DELETE FROM role_grant WHERE role = ? AND privilege = ? AND schema = ?"
                    + " AND name IS NOT DISTINCT FROM ?",
                removed);
            c.commit();
          } catch (SQLException e) {
            c.rollback();
            throw e;
          } finally {
            c.setAutoCommit(true);
          }
          return null;
        });
  }

  private static void batch(Connection c, String sql, List<Grant> grants) throws SQLException {
    try (PreparedStatement s = c.prepareStatement(sql)) {
      for (Grant grant : grants) {
        s.setString(1, grant.role());
        s.setString(2, grant.privilege().name().toLowerCase(Locale.ROOT));
        s.setString(3, grant.on().schema());
        s.setString(4, grant.on().name());
        s.addBatch();
      }
      s.executeBatch();
    }
  }

  // ---- tokens

  /**
   * A token as it is checked.
   *
   * @param digest of the token, by which it is found
   * @param storedKey and {@code serverKey} as in RFC 5802
   * @param expires when it is no longer good; null for never
   * @param revoked when it was revoked, or null
   * @param used when it was used last, to the minute; or null
   */
  public record Kept(
      long id,
      String role,
      String name,
      byte[] digest,
      byte[] storedKey,
      byte[] serverKey,
      Instant made,
      String madeBy,
      Instant expires,
      Instant revoked,
      Instant used) {
    public boolean isGood(Instant now) {
      return revoked == null && (expires == null || now.isBefore(expires));
    }
  }

  /** All tokens, oldest first. */
  public List<Kept> kept() {
    return rows(
        "SELECT id, role, name, digest, stored_key, server_key, made_at, made_by, expires_at,"
            + " revoked_at, used_at FROM token ORDER BY id",
        r ->
            new Kept(
                r.getLong(1),
                r.getString(2),
                r.getString(3),
                r.getBytes(4),
                r.getBytes(5),
                r.getBytes(6),
                instant(r, 7),
                r.getString(8),
                instant(r, 9),
                instant(r, 10),
                instant(r, 11)));
  }

  private static Instant instant(ResultSet r, int column) throws SQLException {
    OffsetDateTime time = r.getObject(column, OffsetDateTime.class);
    return time == null ? null : time.toInstant();
  }

  private static OffsetDateTime time(Instant instant) {
    return instant == null ? null : instant.atOffset(ZoneOffset.UTC);
  }

  /** Keeps a token; its id is given by the database and answered. */
  public long add(Kept token) {
    return in(
        c -> {
          try (PreparedStatement s =
              c.prepareStatement(
                  "INSERT INTO token (role, name, digest, stored_key, server_key, made_at, made_by,"
                      + " expires_at) VALUES (?, ?, ?, ?, ?, ?, ?, ?) RETURNING id")) {
            s.setString(1, token.role());
            s.setString(2, token.name());
            s.setBytes(3, token.digest());
            s.setBytes(4, token.storedKey());
            s.setBytes(5, token.serverKey());
            s.setObject(6, time(token.made()));
            s.setString(7, token.madeBy());
            s.setObject(8, time(token.expires()));
            try (ResultSet r = s.executeQuery()) {
              r.next();
              return r.getLong(1);
            }
          }
        });
  }

  /** Lets a token end sooner. */
  public void expire(long id, Instant at) {
    run("UPDATE token SET expires_at = ? WHERE id = ?", time(at), id);
  }

  public void revoke(long id, Instant at) {
    run("UPDATE token SET revoked_at = ? WHERE id = ? AND revoked_at IS NULL", time(at), id);
  }

  public void used(long id, Instant at) {
    run("UPDATE token SET used_at = ? WHERE id = ?", time(at), id);
  }

  @Override
  public List<Token> tokens() {
    Instant now = Instant.now();
    return kept().stream()
        .map(
            t ->
                new Token(
                    t.id(),
                    t.role(),
                    t.name(),
                    t.isGood(now) ? "valid" : t.revoked() != null ? "revoked" : "expired",
                    local(t.made()),
                    t.madeBy(),
                    local(t.expires()),
                    local(t.used())))
        .toList();
  }

  private static LocalDateTime local(Instant instant) {
    return instant == null ? null : LocalDateTime.ofInstant(instant, ZoneOffset.UTC);
  }

  // ---- the journal

  @Override
  public void note(Entry entry) {
    journal.note(entry);
  }

  @Override
  public List<Noted> journal() {
    return journal.all();
  }
}
