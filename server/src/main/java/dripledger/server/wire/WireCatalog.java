package dripledger.server.wire;

import dripledger.engine.Engine;
import dripledger.engine.access.Caller;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.server.Settings;
import dripledger.server.access.Scram;
import java.security.SecureRandom;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.ParameterMetaData;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.ResultSetMetaData;
import java.sql.SQLException;
import java.sql.Types;
import java.util.ArrayList;
import java.util.HexFormat;
import java.util.Iterator;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Properties;
import java.util.concurrent.ConcurrentHashMap;
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
  private static final int MOST_PARTS = 16; // roles for which a mirror is kept
  private static final int PATIENCE_MILLIS = 10_000;
  private static final String PART = ", as a role sees it";
  private static final long RETRY_NANOS = 10_000_000_000L;

  private final Engine engine;
  private final Settings settings;
  private final String recordsUrl;
  private final Properties login = new Properties();
  private final CountDownLatch made = new CountDownLatch(1);
  private volatile MirrorPool whole;
  private final Map<String, MirrorPool> parts = new LinkedHashMap<>(16, 0.75f, true); // by role
  private final String password = random(24);
  private volatile String unavailable = "it is being made";
  private final Map<String, Object> partsInMaking = new ConcurrentHashMap<>();
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

  private static String random(int bytes) {
    byte[] random = new byte[bytes];
    new SecureRandom().nextBytes(random);
    return HexFormat.of().formatHex(random);
  }

  private String server() {
    return recordsUrl.substring(0, recordsUrl.lastIndexOf('/') + 1);
  }

  private String records() {
    int slash = recordsUrl.lastIndexOf('/');
    int query = recordsUrl.indexOf('?', slash);
    return recordsUrl.substring(slash + 1, query < 0 ? recordsUrl.length() : query);
  }

  private String role() {
    return database() + "_catalog";
  }

  private String mark() {
    return "the catalog of the service whose records are in " + records();
  }

  private void make() {
    triedAt = System.nanoTime();
    CatalogMirror making =
        new CatalogMirror(engine, engine::catalog, server(), login, database(), role());
    try (Connection records = DriverManager.getConnection(server() + records(), login)) {
      CatalogMirror.dropMarked(records, mark() + PART);
      CatalogMirror.makeRole(records, role(), Scram.verifier(password));
      making.open(records, mark());
      MirrorPool pool = new MirrorPool(making, password, MOST_CONNECTIONS);
      try (Connection connection = pool.connection()) {
        version = connection.getMetaData().getDatabaseProductVersion();
      }
      whole = pool;
      unavailable = null;
    } catch (SQLException | RuntimeException e) {
      unavailable = message(e);
      LOG.warn("clients cannot ask what there is: the catalog could not be made: {}", unavailable);
    } finally {
      made.countDown();
    }
  }

  void stop() {
    synchronized (parts) {
      parts.values().forEach(MirrorPool::close);
      parts.clear();
    }
    if (whole != null) {
      whole.close();
    }
  }

  /** A mirror of what a role sees, made when it first asks what there is. */
  private MirrorPool part(Caller caller) throws SQLException {
    MirrorPool known = knownPart(caller);
    if (known != null) {
      return known;
    }
    // It takes a while: those of the role wait for it, others do not.
    synchronized (partsInMaking.computeIfAbsent(caller.role(), role -> new Object())) {
      known = knownPart(caller);
      if (known != null) {
        return known;
      }
      CatalogMirror making =
          new CatalogMirror(
              engine,
              () -> caller.catalog(engine.catalog()),
              server(),
              login,
              database() + "_" + random(6),
              role());
      try (Connection records = DriverManager.getConnection(server() + records(), login)) {
        making.open(records, mark() + PART);
      }
      MirrorPool made = new MirrorPool(making, password, 2);
      synchronized (parts) {
        if (parts.size() >= MOST_PARTS) {
          Iterator<MirrorPool> eldest = parts.values().iterator();
          eldest.next().close();
          eldest.remove();
        }
        parts.put(caller.role(), made);
      }
      partsInMaking.remove(caller.role());
      return made;
    }
  }

  private MirrorPool knownPart(Caller caller) {
    synchronized (parts) {
      return parts.get(caller.role());
    }
  }

  /** Whether a statement is answered here. */
  boolean answers(StatementText statement) {
    return CatalogRouter.isIntrospection(statement, engine.catalog());
  }

  /** The columns of an answer of the engine, with where they are from. */
  List<Field> fields(SqlFrontEnd.Described described, Caller caller) {
    List<Field> fields = new ArrayList<>(Field.of(described.columns()));
    for (int i = 0; i < fields.size(); i++) {
      SqlFrontEnd.Origin origin = described.origins().get(i);
      CatalogObject object = origin == null ? null : engine.catalog().find(origin.relation());
      int table = object == null ? 0 : number(object, caller);
      if (table != 0) {
        Field f = fields.get(i);
        fields.set(i, new Field(f.name(), table, origin.column() + 1, f.type(), f.ours()));
      }
    }
    return fields;
  }

  private int number(CatalogObject object, Caller caller) {
    MirrorPool known;
    synchronized (parts) {
      known = caller.isOwner() ? whole : parts.get(caller.role());
    }
    if (known == null) {
      return 0;
    }
    try {
      known.mirror().follow();
      return known.mirror().number(object);
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

  private Connection connection(Caller caller) throws SQLException {
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
    return (caller.isOwner() ? whole : part(caller)).connection();
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
            parameters.add(Preparations.number(token.text()));
          }
        }
      }
      return new Theirs(sql.append(text.substring(from)).toString(), parameters);
    }
  }

  Prepared prepare(StatementText statement, int[] oids, Caller caller) {
    Theirs theirs = Theirs.of(statement);
    try (Connection connection = connection(caller);
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
  Portal portal(StatementText statement, List<Object> values, Caller caller) {
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
          fields = WireCatalog.this.ask(statement, values, caller, rows);
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

  private List<Field> ask(
      StatementText statement, List<Object> values, Caller caller, List<String[]> rows) {
    Theirs theirs = Theirs.of(statement);
    try (Connection connection = connection(caller);
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
