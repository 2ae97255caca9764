package dripledger.server.wire;

import com.zaxxer.hikari.HikariConfig;
import com.zaxxer.hikari.HikariDataSource;
import dripledger.engine.Engine;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.server.Settings;
import java.security.SecureRandom;
import java.sql.Connection;
import java.sql.ParameterMetaData;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.ResultSetMetaData;
import java.sql.SQLException;
import java.sql.Types;
import java.util.ArrayList;
import java.util.Base64;
import java.util.List;
import java.util.Properties;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.TimeUnit;
import org.postgresql.PGConnection;
import org.postgresql.core.BaseConnection;
import org.postgresql.core.TypeInfo;
import org.postgresql.util.PSQLException;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import org.springframework.beans.factory.annotation.Value;
import org.springframework.stereotype.Component;

/**
 * Answers questions about the catalog: hands them to the PostgreSQL server of the records, where a
 * {@link CatalogMirror} is, by a role that can read nothing else. Safe from any thread.
 */
@Component
final class WireCatalog {
  private static final Logger LOG = LoggerFactory.getLogger(WireCatalog.class);
  private static final int MOST_CONNECTIONS = 4;
  private static final int PATIENCE_MILLIS = 10_000;
  private static final long RETRY_NANOS = 10_000_000_000L;

  private final Engine engine;
  private final Settings settings;
  private final String recordsUrl;
  private final Properties login = new Properties();
  private final CountDownLatch made = new CountDownLatch(1);
  private volatile CatalogMirror mirror;
  private volatile HikariDataSource pool;
  private volatile String unavailable = "it is being made";
  private volatile String version = "15.0";
  private volatile long triedAt;

  WireCatalog(
      Engine engine,
      Settings settings,
      @Value("${spring.datasource.url}") String url,
      @Value("${spring.datasource.username}") String user,
      @Value("${spring.datasource.password}") String password) {
    this.engine = engine;
    this.settings = settings;
    recordsUrl = url;
    login.setProperty("user", user);
    login.setProperty("password", password);
    login.setProperty("connectTimeout", "10");
    login.setProperty("socketTimeout", "30");
  }

  String serverVersion() {
    await();
    return version;
  }

  String database() {
    return settings.wireDatabase();
  }

  void start() {
    Thread making = new Thread(this::make, "wire-catalog"); // it takes a while, and most can wait
    making.setDaemon(true);
    making.start();
  }

  private void await() {
    try {
      if (!made.await(PATIENCE_MILLIS, TimeUnit.MILLISECONDS)) {
        LOG.debug("the catalog is still being made");
      }
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }

  private void make() {
    triedAt = System.nanoTime();
    int slash = recordsUrl.lastIndexOf('/');
    int query = recordsUrl.indexOf('?', slash);
    String server = recordsUrl.substring(0, slash + 1);
    String records = recordsUrl.substring(slash + 1, query < 0 ? recordsUrl.length() : query);
    String role = database() + "_catalog";
    byte[] random = new byte[24];
    new SecureRandom().nextBytes(random);
    String password = Base64.getUrlEncoder().withoutPadding().encodeToString(random);
    CatalogMirror making = new CatalogMirror(engine, server, login, database(), role);
    try {
      making.open(records, Scram.verifier(password));
      HikariConfig config = new HikariConfig();
      config.setJdbcUrl(server + database());
      config.setUsername(role);
      config.setPassword(password);
      config.setMaximumPoolSize(MOST_CONNECTIONS);
      config.setMinimumIdle(0);
      config.setConnectionTimeout(PATIENCE_MILLIS);
      config.setPoolName("catalog");
      config.setReadOnly(true);
      config.addDataSourceProperty("binaryTransfer", "false");
      config.addDataSourceProperty("connectTimeout", "10");
      config.addDataSourceProperty("socketTimeout", "30");
      pool = new HikariDataSource(config);
      try (Connection connection = pool.getConnection()) {
        version = connection.getMetaData().getDatabaseProductVersion();
      }
      mirror = making;
      unavailable = null;
    } catch (SQLException | RuntimeException e) {
      unavailable = message(e);
      LOG.warn("clients cannot ask what there is: the catalog could not be made: {}", unavailable);
    } finally {
      made.countDown();
    }
  }

  void stop() {
    if (pool != null) {
      pool.close();
    }
    try {
      if (mirror != null) {
        mirror.close();
      }
    } catch (SQLException e) {
      LOG.debug("closing", e);
    }
  }

  /** Whether a statement is answered here. */
  boolean answers(StatementText statement) {
    return CatalogRouter.isIntrospection(statement, engine.catalog());
  }

  /** The columns of an answer of the engine, with where they are from. */
  List<Field> fields(SqlFrontEnd.Described described) {
    List<Field> fields = new ArrayList<>(Field.of(described.columns()));
    for (int i = 0; i < fields.size(); i++) {
      SqlFrontEnd.Origin origin = described.origins().get(i);
      CatalogObject object = origin == null ? null : engine.catalog().find(origin.relation());
      int table = object == null ? 0 : number(object);
      if (table != 0) {
        Field f = fields.get(i);
        fields.set(i, new Field(f.name(), table, origin.column() + 1, f.type(), f.ours()));
      }
    }
    return fields;
  }

  private int number(CatalogObject object) {
    if (mirror == null) {
      return 0;
    }
    try {
      mirror.follow();
      return mirror.number(object);
    } catch (SQLException e) {
      LOG.debug("the mirror does not follow", e);
      return 0;
    }
  }

  /** Tries again from time to time, should it not have worked at the start. */
  private synchronized void makeAgain() {
    if (unavailable != null && System.nanoTime() - triedAt > RETRY_NANOS) {
      make();
    }
  }

  private Connection connection() throws SQLException {
    await();
    if (unavailable != null) {
      makeAgain();
    }
    if (unavailable != null) {
      throw new WireError(
          "55000",
          "questions about the catalog cannot be answered: " + unavailable,
          "the user of the records makes a database and a role for it: ALTER ROLE … CREATEDB CREATEROLE");
    }
    mirror.follow();
    return pool.getConnection();
  }

  /** A statement for PostgreSQL, whose parameters are numbered by question marks there. */
  private record Theirs(String sql, List<Integer> parameters) {
    static Theirs of(StatementText statement) {
      StringBuilder sql = new StringBuilder();
      List<Integer> parameters = new ArrayList<>();
      String text = statement.text();
      int from = 0;
      for (Lexer.Token token : statement.tokens()) {
        if (token.kind() == Lexer.Kind.PARAMETER || token.is("?")) {
          sql.append(text, from, token.from());
          from = token.to();
          sql.append(token.is("?") ? "??" : "?");
          if (token.kind() == Lexer.Kind.PARAMETER) {
            parameters.add(Integer.parseInt(token.text().substring(1)));
          }
        }
      }
      return new Theirs(sql.append(text.substring(from)).toString(), parameters);
    }
  }

  Prepared prepare(StatementText statement, int[] oids) {
    Theirs theirs = Theirs.of(statement);
    try (Connection connection = connection();
        PreparedStatement prepared = connection.prepareStatement(theirs.sql)) {
      ParameterMetaData known = prepared.getParameterMetaData();
      TypeInfo types = types(connection);
      int count = oids.length;
      for (int number : theirs.parameters) {
        count = Math.max(count, number);
      }
      int[] told = java.util.Arrays.copyOf(oids, count);
      for (int i = 0; i < theirs.parameters.size(); i++) {
        int number = theirs.parameters.get(i) - 1;
        if (told[number] == 0) {
          told[number] = types.getPGType(known.getParameterTypeName(i + 1));
        }
      }
      List<ColumnType> parameters = new ArrayList<>();
      for (int oid : told) {
        ColumnType type = WireType.columnType(oid);
        parameters.add(type == null ? ColumnType.of(Kind.VARCHAR) : type);
      }
      ResultSetMetaData columns = prepared.getMetaData();
      List<Field> fields = columns == null ? null : fields(columns, types);
      return new Prepared(statement, Prepared.Kind.CATALOG, parameters, told, fields, null);
    } catch (SQLException e) {
      throw refused(e, statement);
    }
  }

  private static TypeInfo types(Connection connection) throws SQLException {
    return connection.unwrap(PGConnection.class) instanceof BaseConnection b
        ? b.getTypeInfo()
        : null;
  }

  private static List<Field> fields(ResultSetMetaData columns, TypeInfo types) throws SQLException {
    List<Field> fields = new ArrayList<>();
    for (int i = 1; i <= columns.getColumnCount(); i++) {
      int oid = types.getPGType(columns.getColumnTypeName(i));
      ColumnType ours = WireType.columnType(oid);
      int size =
          switch (oid) {
            case WireType.BOOL, 18 -> 1;
            case WireType.INT2 -> 2;
            case WireType.INT4, WireType.OID, WireType.FLOAT4 -> 4;
            case WireType.INT8, WireType.FLOAT8 -> 8;
            case WireType.NAME -> 64;
            default -> -1;
          };
      fields.add(new Field(columns.getColumnLabel(i), 0, 0, new WireType(oid, size, -1), ours));
    }
    return fields;
  }

  /**
   * A question, to be asked.
   *
   * @param values of its parameters
   */
  Portal portal(StatementText statement, List<Object> values) {
    return new Portal() {
      private List<Field> fields;
      private List<String[]> rows;
      private int next;

      @Override
      List<Field> fields() {
        ask();
        return fields;
      }

      private void ask() {
        if (rows == null) {
          rows = new ArrayList<>();
          fields = WireCatalog.this.ask(statement, values, rows);
        }
      }

      @Override
      long send(WireOutput out, Formats formats, long most) throws java.io.IOException {
        ask();
        long sent = 0;
        for (; next < rows.size() && (most == 0 || sent < most); sent++) {
          String[] row = rows.get(next++);
          out.begin('D').int16(row.length);
          for (int i = 0; i < row.length; i++) {
            value(out, fields.get(i), row[i], formats.isBinary(i));
          }
          out.end();
        }
        return sent;
      }

      @Override
      boolean hasEnded() {
        return rows != null && next == rows.size();
      }

      @Override
      String tag(long sent) {
        return "SELECT " + sent;
      }
    };
  }

  private static void value(WireOutput out, Field field, String text, boolean binary) {
    int oid = field.type().oid();
    if (text == null) {
      out.nullValue();
    } else if (!binary || oid == 18 || oid == WireType.NAME) {
      int begun = out.beginValue();
      out.chars(text);
      out.endValue(begun);
    } else if (oid == WireType.OID) {
      out.int32(4).int32((int) Long.parseLong(text));
    } else if (field.ours() == null) {
      throw new WireError(
          "0A000", "column " + field.name() + " is given as text only", "ask for text");
    } else {
      ColumnType type = field.ours();
      WireValues.write(out, type, WireParameters.parse(field.name(), type, text), true);
    }
  }

  private List<Field> ask(StatementText statement, List<Object> values, List<String[]> rows) {
    Theirs theirs = Theirs.of(statement);
    try (Connection connection = connection();
        PreparedStatement prepared = connection.prepareStatement(theirs.sql)) {
      prepared.setMaxRows(settings.maxResultRows());
      for (int i = 0; i < theirs.parameters.size(); i++) {
        Object value = values.get(theirs.parameters.get(i) - 1);
        prepared.setObject(i + 1, value == null ? null : plain(value), Types.OTHER);
      }
      try (ResultSet answer = prepared.executeQuery()) {
        List<Field> fields = fields(answer.getMetaData(), types(connection));
        while (answer.next()) {
          String[] row = new String[fields.size()];
          for (int i = 0; i < row.length; i++) {
            row[i] = answer.getString(i + 1);
          }
          rows.add(row);
        }
        return fields;
      } finally {
        // What a function may have set must not stay for the next.
        try (PreparedStatement reset = connection.prepareStatement("RESET ALL")) {
          reset.execute();
        }
      }
    } catch (SQLException e) {
      throw refused(e, statement);
    }
  }

  private static String plain(Object value) {
    return value instanceof List<?> list
        ? WireValues.text(
            ColumnType.array(ColumnType.of(Kind.VARCHAR)),
            list.stream().map(v -> v == null ? null : v.toString()).toList())
        : value.toString();
  }

  /** The sentence of an error, without where in PostgreSQL it came up. */
  private static String message(Exception e) {
    return e instanceof PSQLException p && p.getServerErrorMessage() != null
        ? p.getServerErrorMessage().getMessage()
        : e.getMessage();
  }

  private static WireError refused(SQLException e, StatementText statement) {
    String state = e.getSQLState() == null ? "58000" : e.getSQLState();
    String message = message(e);
    int position =
        e instanceof PSQLException p && p.getServerErrorMessage() != null
            ? p.getServerErrorMessage().getPosition()
            : 0;
    if (state.equals("42501")) {
      return new WireError(
          state,
          "a statement asks either for what there is or for data, not for both: " + message,
          "ask twice");
    }
    return new WireError(state, message, null, position == 0 ? 0 : position + statement.offset());
  }
}
