package dripledger.connectors.postgres;

import dripledger.connectors.ConnectionOptions;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.nio.file.Path;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.Locale;
import java.util.Properties;
import java.util.Set;
import java.util.TreeSet;
import org.postgresql.PGProperty;

/** Connections for a connection's options, and what their failures mean. */
final class PostgresAccess {
  private static final Set<String> OPTIONS =
      Set.of(
          "url",
          "user",
          "password",
          "tls",
          "tls_ca_file",
          "slot",
          "max_transaction_mb",
          "keep_alarm_mb");

  private static final Set<String> PARAMETERS =
      Set.of(
          "connectTimeout",
          "hostRecheckSeconds",
          "loadBalanceHosts",
          "loginTimeout",
          "socketTimeout",
          "targetServerType");

  private final ConnectionOptions options;

  PostgresAccess(ConnectionOptions options) {
    this.options = options;
  }

  String name() {
    return options.name();
  }

  /** The slot at the source that keeps changes for us; publication and slot have one name. */
  String slot() {
    String own = "drip_" + options.name().toLowerCase(Locale.ROOT).replaceAll("[^a-z0-9_]", "_");
    return options.get("slot", own);
  }

  /** The folder for what waits on disk. */
  Path waiting() {
    return options.waiting();
  }

  /** The largest transaction taken, in bytes of rows; by default what half of the heap holds. */
  long maxTransactionBytes() {
    return megabytes("max_transaction_mb", Runtime.getRuntime().maxMemory() >> 21);
  }

  /** When to tell that the source keeps much for us, in bytes. */
  long keepAlarmBytes() {
    return megabytes("keep_alarm_mb", 1024);
  }

  private long megabytes(String option, long otherwise) {
    String mb = options.get(option, "" + otherwise);
    try {
      return Long.parseLong(mb) << 20;
    } catch (NumberFormatException e) {
      throw new EngineException(
          Code.INVALID, "option \"" + option + "\": '" + mb + "' is not a number", null);
    }
  }

  private Properties properties() {
    options.allowOnly(OPTIONS);
    String url = options.required("url", "'jdbc:postgresql://127.0.0.1:5432/hub'");
    if (!url.startsWith("jdbc:postgresql://") || url.contains("password=")) {
      throw new EngineException(
          Code.INVALID,
          "option \"url\" must be jdbc:postgresql://HOST:PORT/DATABASE without a password",
          "user and password have options of their own");
    }
    checkParameters(url);
    Properties p = new Properties();
    PGProperty.USER.set(p, options.required("user", "'drip'"));
    if (options.get("password") != null) {
      PGProperty.PASSWORD.set(p, options.get("password"));
    }
    PGProperty.APPLICATION_NAME.set(p, "drip-ledger " + options.name());
    PGProperty.CONNECT_TIMEOUT.set(p, 6);
    PGProperty.LOGIN_TIMEOUT.set(p, 8);
    PGProperty.TCP_KEEP_ALIVE.set(p, true);
    boolean tls = options.isOn("tls");
    PGProperty.SSL_MODE.set(p, tls ? "verify-full" : "prefer");
    if (tls && options.get("tls_ca_file") != null) {
      PGProperty.SSL_ROOT_CERT.set(p, options.get("tls_ca_file"));
    } else if (tls) { // what this machine's Java trusts
      PGProperty.SSL_FACTORY.set(p, "org.postgresql.ssl.DefaultJavaSSLFactory");
    } else if (options.get("tls_ca_file") != null) {
      throw new EngineException(
          Code.INVALID, "option \"tls_ca_file\" without tls 'on' protects nothing", null);
    }
    return p;
  }

  /** Of what a driver can be told by its URL, only what does no harm may be there. */
  private static void checkParameters(String url) {
    int query = url.indexOf('?');
    for (String parameter : query < 0 ? new String[0] : url.substring(query + 1).split("&")) {
      String name = parameter.replaceAll("=.*", "");
      if (!PARAMETERS.contains(name)) {
        throw new EngineException(
            Code.INVALID,
            "option \"url\": the parameter \"" + name + "\" is not allowed",
            "there are " + String.join(", ", new TreeSet<>(PARAMETERS)));
      }
    }
  }

  /** An ordinary connection, whose values come as the server's own text. */
  Connection connect() throws SQLException {
    Properties p = properties();
    PGProperty.BINARY_TRANSFER.set(p, false);
    Connection c = DriverManager.getConnection(options.get("url"), p);
    try (Statement s = c.createStatement()) {
      s.execute("SET DateStyle = 'ISO'");
      s.execute("SET TimeZone = 'UTC'");
      s.execute("SET bytea_output = 'hex'");
      s.execute("SET extra_float_digits = 1");
      s.execute("SET search_path = pg_catalog");
    } catch (SQLException e) {
      c.close();
      throw e;
    }
    return c;
  }

  /** A connection that speaks the replication protocol. */
  Connection replication() throws SQLException {
    Properties p = properties();
    PGProperty.REPLICATION.set(p, "database");
    PGProperty.ASSUME_MIN_SERVER_VERSION.set(p, "10");
    PGProperty.PREFER_QUERY_MODE.set(p, "simple");
    PGProperty.OPTIONS.set(
        p, "-c DateStyle=ISO -c TimeZone=UTC -c bytea_output=hex -c extra_float_digits=1");
    return DriverManager.getConnection(options.get("url"), p);
  }

  /** Checks that we get in and that changes can be had. */
  void check() {
    maxTransactionBytes();
    keepAlarmBytes();
    try (Connection c = connect()) {
      if (!"logical".equals(value(c, "SHOW wal_level"))) {
        throw new EngineException(
            Code.FAILED,
            "the database does not write what changes can be read from: wal_level is "
                + value(c, "SHOW wal_level"),
            "set wal_level = logical there, and restart it");
      }
      String may =
          value(c, "SELECT rolreplication OR rolsuper FROM pg_roles WHERE rolname = current_user");
      if (!"t".equals(may)) {
        throw new EngineException(
            Code.FAILED,
            "user \"" + options.get("user") + "\" may not read changes",
            "there: ALTER ROLE " + options.get("user") + " REPLICATION");
      }
      String create = value(c, "SELECT has_database_privilege(current_database(), 'CREATE')");
      if (!"t".equals(create)) {
        throw new EngineException(
            Code.FAILED,
            "user \"" + options.get("user") + "\" may not make a publication",
            "there: GRANT CREATE ON DATABASE … TO " + options.get("user"));
      }
    } catch (SQLException e) {
      throw failure(e);
    }
  }

  static String value(Connection c, String query, Object... values) throws SQLException {
    try (PreparedStatement s = c.prepareStatement(query)) {
      for (int i = 0; i < values.length; i++) {
        s.setObject(i + 1, values[i]);
      }
      try (ResultSet r = s.executeQuery()) {
        return r.next() ? r.getString(1) : null;
      }
    }
  }

  /**
   * Runs a statement that names things, with the server itself writing the names.
   *
   * @param format as the server's function format() takes it, with %I for names
   */
  static void execute(Connection c, String format, String... names) throws SQLException {
    executeUpdate(c, format, names);
  }

  /** As above; answers how many rows it changed. */
  static long executeUpdate(Connection c, String format, String... names) throws SQLException {
    String statement = named(c, format, names);
    try (Statement run = c.createStatement()) {
      run.execute(statement);
      return Math.max(0, run.getLargeUpdateCount());
    }
  }

  /** A statement with the names that the server has written into it. */
  static String named(Connection c, String format, String... names) throws SQLException {
    try (PreparedStatement s = c.prepareStatement("SELECT format(?, VARIADIC ?)")) {
      s.setString(1, format);
      s.setArray(2, c.createArrayOf("text", names));
      try (ResultSet r = s.executeQuery()) {
        r.next();
        return r.getString(1);
      }
    }
  }

  /** What a failure of the driver means for the user. */
  EngineException failure(SQLException e) {
    String state = e.getSQLState() == null ? "" : e.getSQLState();
    String message = DatabaseErrors.sentence(e);
    if (e.getCause() instanceof java.net.UnknownHostException) {
      return failed("no host is called " + e.getCause().getMessage(), "check option \"url\"");
    }
    if (state.equals("28P01")) {
      return failed(
          "the database refuses user \"" + options.get("user") + "\": wrong user or password",
          "check option user, and the secret: drip secret set …");
    }
    if (state.equals("28000")) {
      return failed(
          "the database does not let user \"" + options.get("user") + "\" in from here",
          "its pg_hba.conf needs a line for us");
    }
    if (state.equals("3D000")) {
      return failed("there is no such database: " + message, "check option \"url\"");
    }
    if (state.equals("42501")) {
      return failed(
          "user \"" + options.get("user") + "\" is not permitted: " + message,
          "a publication needs the owner of the table; reading it needs SELECT");
    }
    if (state.equals("53400") || message.contains("all replication slots are in use")) {
      return failed("all replication slots are in use", "raise max_replication_slots there");
    }
    if (state.startsWith("08") || state.equals("57P03") || state.equals("57P01")) {
      return failed(
          "the database cannot be reached: " + message, "check option \"url\", and that it runs");
    }
    return failed("the database: " + message, null);
  }

  private static EngineException failed(String message, String hint) {
    return new EngineException(Code.FAILED, message, hint);
  }
}
