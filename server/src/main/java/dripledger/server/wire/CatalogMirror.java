package dripledger.server.wire;

import dripledger.engine.Engine;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Figures;
import dripledger.engine.row.Column;
import dripledger.engine.row.Schema;
import dripledger.engine.view.RelationVersion;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Properties;
import java.util.function.Supplier;
import java.util.stream.Collectors;

/**
 * A database beside the records that has our objects as empty tables, so that PostgreSQL answers
 * questions about them. It is made anew at the start, and follows the catalog whenever it is looked
 * at. Safe from any thread.
 */
final class CatalogMirror implements AutoCloseable {
  /** A database that a superuser has made, with a function that tells how many rows there are. */
  private static final String TEMPLATE = "drip_mirror";

  private static final String ESTIMATING =
      "SELECT CASE WHEN to_regprocedure('drip.estimate(real, bigint)') IS NOT NULL"
          + " THEN 'SELECT drip.estimate(?, ?)' WHEN (SELECT rolsuper FROM pg_roles WHERE rolname ="
          + " current_user) THEN 'UPDATE pg_class SET reltuples = ? WHERE oid = ?::bigint' END";

  private static final long ESTIMATES_NANOS = 5_000_000_000L;
  private static final float ESTIMATED_WITHIN = 10; // a tenth

  private final Engine engine;
  private final Supplier<Catalog> catalog;
  private final String url;
  private final Properties login;
  private final String database;
  private final String role;
  private final Map<String, Integer> numbers = new HashMap<>(); // by schema and name
  private final Map<String, List<String>> made = new LinkedHashMap<>(); // by schema and name
  private Connection connection;
  private Catalog shown;
  private final Map<Integer, Float> estimates = new HashMap<>(); // rows by the table's number
  private String estimating; // the statement by which rows are estimated, or null
  private long estimated;

  /**
   * @param catalog what it shows
   * @param url of the server, with a slash at its end
   * @param login user and password of the records
   * @param database of its own
   * @param role that may look at it
   */
  CatalogMirror(
      Engine engine,
      Supplier<Catalog> catalog,
      String url,
      Properties login,
      String database,
      String role) {
    this.engine = engine;
    this.catalog = catalog;
    this.url = url;
    this.login = login;
    this.database = database;
    this.role = role;
  }

  /** Where it is. */
  String url() {
    return url + database;
  }

  /** The role that may look at it. */
  String role() {
    return role;
  }

  /** Makes the role that looks at mirrors, if it is missing, and gives it a password. */
  static void makeRole(Connection records, String role, String verifier) throws SQLException {
    try (Statement statement = records.createStatement()) {
      statement.execute(
          "DO $$ BEGIN IF NOT EXISTS (SELECT FROM pg_roles WHERE rolname = "
              + text(role)
              + ") THEN CREATE ROLE "
              + quoted(role)
              + "; END IF; END $$");
      statement.execute(
          "ALTER ROLE " + quoted(role) + " LOGIN NOINHERIT PASSWORD " + text(verifier));
      for (String setting :
          List.of("default_transaction_read_only = on", "statement_timeout = '10s'")) {
        statement.execute("ALTER ROLE " + quoted(role) + " SET " + setting);
      }
    }
  }

  /** Drops the databases that have a mark. */
  static void dropMarked(Connection records, String mark) throws SQLException {
    List<String> names = new ArrayList<>();
    try (PreparedStatement statement =
        records.prepareStatement(
            "SELECT datname FROM pg_database WHERE shobj_description(oid, 'pg_database') = ?")) {
      statement.setString(1, mark);
      try (ResultSet rows = statement.executeQuery()) {
        while (rows.next()) {
          names.add(rows.getString(1));
        }
      }
    }
    try (Statement statement = records.createStatement()) {
      for (String name : names) {
        statement.execute("DROP DATABASE IF EXISTS " + quoted(name) + " WITH (FORCE)");
      }
    }
  }

  /**
   * Makes the database, if it is missing, and empties it.
   *
   * @param records a connection to a database of the server that is there
   * @param mark by which it is known to be ours
   */
  synchronized void open(Connection records, String mark) throws SQLException {
    try (Statement statement = records.createStatement()) {
      String found = comment(records);
      if (found == null) {
        statement.execute(
            "CREATE DATABASE "
                + quoted(database)
                + " TEMPLATE "
                + (exists(records, TEMPLATE) ? TEMPLATE : "template0")
                + " ENCODING 'UTF8' LC_COLLATE 'C' LC_CTYPE 'C'");
        statement.execute("COMMENT ON DATABASE " + quoted(database) + " IS " + text(mark));
      } else if (!found.equals(mark)) {
        throw new SQLException("the database \"" + database + "\" belongs to something else");
      }
    }
    connection = DriverManager.getConnection(url + database, login);
    try (Statement statement = connection.createStatement()) {
      statement.execute("DROP SCHEMA IF EXISTS public CASCADE");
      statement.execute(
          "DO $$ DECLARE name text; BEGIN FOR name IN SELECT tablename FROM pg_tables WHERE"
              + " schemaname = 'drip' LOOP EXECUTE format('DROP TABLE drip.%I', name); END LOOP;"
              + " END $$");
      for (String schema : List.of("public", "drip")) {
        statement.execute("CREATE SCHEMA IF NOT EXISTS " + schema);
        statement.execute("GRANT USAGE ON SCHEMA " + schema + " TO " + quoted(role));
      }
      try (ResultSet rows = statement.executeQuery(ESTIMATING)) {
        estimating = rows.next() ? rows.getString(1) : null;
      }
    }
    numbers.clear();
    made.clear();
    estimates.clear();
    shown = null;
    follow();
  }

  private static boolean exists(Connection records, String database) throws SQLException {
    try (PreparedStatement statement =
        records.prepareStatement("SELECT 1 FROM pg_database WHERE datname = ?")) {
      statement.setString(1, database);
      try (ResultSet rows = statement.executeQuery()) {
        return rows.next();
      }
    }
  }

  private String comment(Connection records) throws SQLException {
    try (PreparedStatement statement =
        records.prepareStatement(
            "SELECT COALESCE(shobj_description(oid, 'pg_database'), '') FROM pg_database"
                + " WHERE datname = ?")) {
      statement.setString(1, database);
      try (ResultSet rows = statement.executeQuery()) {
        return rows.next() ? rows.getString(1) : null;
      }
    }
  }

  /** Brings it to what the catalog is now. */
  synchronized void follow() throws SQLException {
    try {
      bring();
    } catch (SQLException e) { // the server may have been started anew meanwhile
      connection.close();
      connection = DriverManager.getConnection(url + database, login);
      bring();
    }
  }

  private void bring() throws SQLException {
    Catalog now = catalog.get();
    if (now != shown) {
      Map<String, CatalogObject> wanted = new LinkedHashMap<>();
      for (CatalogObject object : now.all()) {
        if (!object.schema().columns().isEmpty()
            && !(object instanceof CatalogObject.Sink)
            && !(object instanceof CatalogObject.Endpoint)) {
          wanted.put(name(object), object);
        }
      }
      for (Figures figures : Figures.ALL) {
        if (now.isReadable(figures)) {
          wanted.put(name(figures), figures);
        }
      }
      for (String name : List.copyOf(made.keySet())) {
        CatalogObject object = wanted.get(name);
        if (object == null || !statements(object).equals(made.get(name))) {
          numbers.remove(name);
          execute(List.of("DROP TABLE IF EXISTS " + name));
          made.remove(name);
        }
      }
      for (CatalogObject object : wanted.values()) {
        if (!made.containsKey(name(object))) {
          make(object);
        }
      }
      shown = now;
    }
    if (estimating != null && System.nanoTime() - estimated > ESTIMATES_NANOS) {
      estimate();
      estimated = System.nanoTime();
    }
  }

  private static String name(CatalogObject object) {
    return (object instanceof Figures ? "drip." : "public.") + quoted(object.name());
  }

  private void make(CatalogObject object) throws SQLException {
    String name = name(object);
    List<String> statements = statements(object);
    execute(List.of("DROP TABLE IF EXISTS " + name));
    execute(statements);
    made.put(name, statements);
    try (PreparedStatement statement =
        connection.prepareStatement("SELECT ?::regclass::oid::bigint")) {
      statement.setString(1, name);
      try (ResultSet rows = statement.executeQuery()) {
        rows.next();
        numbers.put(name, (int) rows.getLong(1));
      }
    }
  }

  private void execute(List<String> statements) throws SQLException {
    try (Statement statement = connection.createStatement()) {
      for (String sql : statements) {
        statement.execute(sql);
      }
    }
  }

  private List<String> statements(CatalogObject object) {
    String name = name(object);
    Schema columns = object.schema();
    int[] key = key(object);
    List<String> parts = new ArrayList<>();
    for (Column column : columns.columns()) {
      parts.add(
          quoted(column.name())
              + " "
              + WireType.sql(column.type())
              + (column.type().nullable() ? "" : " NOT NULL"));
    }
    if (key != null) {
      parts.add(
          "PRIMARY KEY ("
              + java.util.Arrays.stream(key)
                  .mapToObj(k -> quoted(columns.column(k).name()))
                  .collect(Collectors.joining(", "))
              + ")");
    }
    List<String> all = new ArrayList<>();
    all.add(
        "CREATE TABLE "
            + name
            + " ("
            + String.join(", ", parts)
            + ") WITH (autovacuum_enabled = off)");
    all.add("COMMENT ON TABLE " + name + " IS " + text(object.kind()));
    // Enough to be listed, and not to be read: a query that gets here by mistake is refused.
    all.add("GRANT REFERENCES ON " + name + " TO " + quoted(role));
    return all;
  }

  /** A primary key has no NULL in it. */
  private static int[] key(CatalogObject object) {
    int[] key =
        object instanceof CatalogObject.Table t
            ? t.primaryKey()
            : object instanceof CatalogObject.MaterializedView m && m.keyProven() ? m.key() : null;
    boolean empty = key == null || key.length == 0 || key.length > 32;
    for (int i = 0; !empty && i < key.length; i++) {
      empty = object.schema().type(key[i]).nullable();
    }
    return empty ? null : key;
  }

  private void estimate() throws SQLException {
    try (PreparedStatement statement = connection.prepareStatement(estimating)) {
      for (CatalogObject object : shown.all()) {
        RelationVersion version = engine.snapshot().relation(object.id());
        Integer number = numbers.get(name(object));
        if (version == null || number == null) {
          continue;
        }
        float rows = version.count();
        float told = estimates.getOrDefault(number, -1f);
        if (Math.abs(rows - told) > told / ESTIMATED_WITHIN) {
          statement.setFloat(1, rows);
          statement.setLong(2, number & 0xffffffffL);
          statement.execute();
          estimates.put(number, rows);
        }
      }
    }
  }

  /** The number that clients know a relation by; 0 if it is not known. */
  synchronized int number(CatalogObject object) {
    return numbers.getOrDefault(name(object), 0);
  }

  private static String quoted(String name) {
    return '"' + name.replace("\"", "\"\"") + '"';
  }

  private static String text(String text) {
    return "'" + text.replace("'", "''") + "'";
  }

  @Override
  public synchronized void close() throws SQLException {
    if (connection != null) {
      connection.close();
    }
  }
}
