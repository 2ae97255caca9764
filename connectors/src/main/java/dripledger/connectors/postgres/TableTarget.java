package dripledger.connectors.postgres;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.format.Folded;
import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.Target;
import java.io.IOException;
import java.nio.ByteBuffer;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.SQLException;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.stream.Collectors;
import org.postgresql.PGConnection;
import org.postgresql.copy.CopyIn;

/**
 * Delivers to a table of a database. Rows with a key are merged: what is to be is copied into a
 * table of the session, the last of each key, and three statements take out, change and put in what
 * differs. As long as a table that was empty has got nothing but new rows, they are copied into it
 * as they are. The number of the next batch is a row written in the same transaction, which nobody
 * who expects another number can write.
 */
final class TableTarget implements Target {
  private static final String NUMBERS = "drip_delivered";
  private static final int COPY_BYTES = 64 << 10;
  private static final int LITTLE = 1000; // rows

  private final PostgresAccess access;
  private final TargetTable table;
  private final Sink sink;
  private final String identity;
  private final Connection connection;
  private long next = -1;
  private boolean onlyOurs; // the table was empty, and has got new rows of ours only

  private TableTarget(
      PostgresAccess access, TargetTable table, Sink sink, String identity, Connection connection) {
    this.access = access;
    this.table = table;
    this.sink = sink;
    this.identity = identity;
    this.connection = connection;
  }

  static TableTarget open(ConnectionOptions options, Sink sink, String identity) {
    PostgresAccess access = new PostgresAccess(options);
    TargetTable table = TargetTable.of(sink);
    try {
      Connection connection = access.connect();
      TableTarget target = new TableTarget(access, table, sink, identity, connection);
      try {
        target.begin();
      } catch (SQLException | RuntimeException e) {
        target.close();
        throw e;
      }
      return target;
    } catch (SQLException e) {
      throw access.failure(e);
    }
  }

  /** Makes the table if that is asked for, and checks that what is delivered fits. */
  static void prepare(ConnectionOptions options, Sink sink) {
    TargetTable table = TargetTable.of(sink);
    PostgresAccess access = new PostgresAccess(options);
    try (Connection c = access.connect()) {
      if (table.isMade()) {
        // Who may not make what is there already would not be let.
        if (PostgresAccess.value(c, "SELECT 1 FROM pg_namespace WHERE nspname = ?", table.schema())
            == null) {
          run(c, table.schemaStatement(), table);
        }
        if (!isThere(c, table.name(), table)) {
          run(c, table.createStatement(), table);
        }
      }
      table.check(c);
    } catch (SQLException e) {
      throw access.failure(e);
    }
  }

  /** Takes away how far a delivery has come. */
  static void forget(ConnectionOptions options, Sink sink, String identity) {
    TargetTable table = TargetTable.of(sink);
    PostgresAccess access = new PostgresAccess(options);
    try (Connection c = access.connect()) {
      if (isThere(c, NUMBERS, table)) {
        String format = "DELETE FROM %1$I.%2$I WHERE identity = ?";
        String statement = PostgresAccess.named(c, format, table.schema(), NUMBERS);
        try (PreparedStatement s = c.prepareStatement(statement)) {
          s.setString(1, identity);
          s.executeUpdate();
        }
      }
    } catch (SQLException e) {
      throw access.failure(e);
    }
  }

  /** The statements that carry a batch, then the rows of the first as they are copied. */
  static List<String> preview(ConnectionOptions options, Sink sink, List<Outgoing.Change> changes) {
    TargetTable table = TargetTable.of(sink);
    PostgresAccess access = new PostgresAccess(options);
    List<String> formats = new ArrayList<>();
    if (table.isMade()) {
      formats.add(table.createStatement());
    }
    if (sink.rows() == Sink.Rows.UPSERT) {
      formats.add(table.copyStatement());
      if (table.removeStatement() != null) {
        formats.add(table.removeStatement());
      }
      formats.addAll(List.of(table.changeStatement(), table.putStatement()));
    } else {
      formats.add(table.appendStatement());
    }
    List<String> lines = new ArrayList<>();
    try (Connection c = access.connect()) {
      for (String format : formats) {
        lines.addAll(Folded.of(PostgresAccess.named(c, format, table.names())));
      }
    } catch (SQLException e) {
      throw access.failure(e);
    }
    for (Outgoing.Change change : changes) {
      lines.add(Arrays.stream(change.after()).map(CopyText::of).collect(Collectors.joining(" | ")));
    }
    return lines;
  }

  private void begin() throws SQLException {
    connection.setAutoCommit(false);
    if (!isThere(connection, NUMBERS, table)) {
      PostgresAccess.execute(
          connection,
          "CREATE TABLE IF NOT EXISTS %1$I.%2$I (identity text PRIMARY KEY, sink text NOT NULL,"
              + " next bigint NOT NULL, at timestamptz NOT NULL DEFAULT now())",
          table.schema(),
          NUMBERS);
    }
    connection.commit();
    if (sink.rows() == Sink.Rows.UPSERT) {
      run(connection, table.stageStatement(), table);
      connection.commit();
    }
    String known =
        PostgresAccess.value(
            connection,
            PostgresAccess.value(
                connection,
                "SELECT format('SELECT next FROM %I.%I WHERE identity = %L', ?, ?, ?)",
                table.schema(),
                NUMBERS,
                identity));
    next = known == null ? -1 : Long.parseLong(known);
    onlyOurs = known == null && isEmpty();
    connection.commit();
  }

  private boolean isEmpty() throws SQLException {
    String format = "SELECT NOT EXISTS (SELECT 1 FROM %1$I.%2$I)";
    String query = PostgresAccess.named(connection, format, table.schema(), table.name());
    return "t".equals(PostgresAccess.value(connection, query));
  }

  private static boolean isThere(Connection c, String name, TargetTable table) throws SQLException {
    String query = "SELECT 1 FROM pg_tables WHERE schemaname = ? AND tablename = ?";
    return PostgresAccess.value(c, query, table.schema(), name) != null;
  }

  private static long run(Connection c, String format, TargetTable table) throws SQLException {
    return PostgresAccess.executeUpdate(c, format, table.names());
  }

  @Override
  public int mostRows() {
    return 200_000; // of a step; each has a price of its own
  }

  @Override
  public long next() {
    return next;
  }

  @Override
  public Carried carry(List<Outgoing> batches) {
    long after = batches.get(batches.size() - 1).number() + 1;
    try {
      onlyOurs &= onlyCome(batches);
      Carried carried =
          sink.rows() == Sink.Rows.APPEND || onlyOurs ? append(batches) : merge(batches);
      number(after);
      connection.commit();
      next = after;
      return carried;
    } catch (SQLException e) {
      rollBack();
      throw access.failure(e);
    } catch (IOException e) {
      rollBack();
      throw new EngineException(Code.FAILED, "the database: " + e.getMessage());
    } catch (RuntimeException e) {
      rollBack();
      throw e;
    }
  }

  /** Whether all rows are new: then no two have one key. */
  private static boolean onlyCome(List<Outgoing> batches) {
    return batches.stream()
        .allMatch(
            batch -> batch.changes().stream().allMatch(c -> c.before() == null && !c.expired()));
  }

  private void rollBack() {
    try {
      connection.rollback();
    } catch (SQLException e) {
      // it has ended anyway
    }
  }

  private Carried append(List<Outgoing> batches) throws SQLException, IOException {
    long put = 0;
    CopyIn copy = copy(table.appendStatement());
    try (Lines lines = new Lines(copy)) {
      for (Outgoing batch : batches) {
        for (Outgoing.Change change : batch.changes()) {
          lines.row(change.after(), table.batchColumn() == null ? null : "" + batch.number());
          put++;
        }
      }
      lines.end();
    }
    return new Carried(put, 0, 0, 0);
  }

  private Carried merge(List<Outgoing> batches) throws SQLException, IOException {
    Map<List<Object>, Outgoing.Change> last = new LinkedHashMap<>();
    for (Outgoing batch : batches) {
      for (Outgoing.Change change : batch.changes()) {
        last.put(key(change.after() != null ? change.after() : change.before()), change);
      }
    }
    long rows = 0;
    long fresh = 0;
    boolean anyGone = false;
    CopyIn copy = copy(table.copyStatement());
    try (Lines lines = new Lines(copy)) {
      for (Outgoing.Change change : last.values()) {
        boolean gone = change.after() == null;
        lines.row(gone ? change.before() : change.after(), gone ? "t" : "f");
        rows += gone ? 0 : 1;
        fresh += change.before() == null ? 1 : 0;
        anyGone |= gone;
      }
      lines.end();
    }
    if (last.size() > LITTLE) { // so that the server knows that they are many
      run(connection, table.analyzeStatement(), table);
    }
    String remove = anyGone ? table.removeStatement() : null;
    long removed = remove == null ? 0 : run(connection, remove, table);
    long changed = 0;
    long put = 0;
    // What has found its place by the one statement need not look for it by the other.
    if (2 * fresh > rows) {
      put = run(connection, table.putStatement(), table);
      changed = put == rows ? 0 : run(connection, table.changeStatement(), table);
    } else {
      changed = run(connection, table.changeStatement(), table);
      put = changed == rows ? 0 : run(connection, table.putStatement(), table);
    }
    return new Carried(put, changed, rows - changed - put, removed);
  }

  private List<Object> key(Object[] row) {
    Object[] key = new Object[sink.key().length];
    for (int i = 0; i < key.length; i++) {
      Object value = row[sink.key()[i]];
      key[i] = value instanceof byte[] bytes ? ByteBuffer.wrap(bytes) : value;
    }
    return Arrays.asList(key);
  }

  private CopyIn copy(String format) throws SQLException {
    String statement = PostgresAccess.named(connection, format, table.names());
    return connection.unwrap(PGConnection.class).getCopyAPI().copyIn(statement);
  }

  /** Says which batch is next, unless another has said something else meanwhile. */
  private void number(long after) throws SQLException {
    String format =
        "INSERT INTO %1$I.%2$I AS n (identity, sink, next) VALUES (?, ?, ?) ON CONFLICT (identity)"
            + " DO UPDATE SET next = excluded.next, at = now() WHERE n.next = ?";
    String statement = PostgresAccess.named(connection, format, table.schema(), NUMBERS);
    try (PreparedStatement s = connection.prepareStatement(statement)) {
      s.setString(1, identity);
      s.setString(2, sink.name());
      s.setLong(3, after);
      s.setLong(4, next);
      if (s.executeUpdate() != 1) {
        throw new EngineException(
            Code.FAILED, "another service has delivered for \"" + sink.name() + "\"");
      }
    }
  }

  @Override
  public void close() {
    try {
      connection.close();
    } catch (SQLException e) {
      // whatever it had begun has ended
    }
  }

  /** Rows as lines of COPY. */
  private static final class Lines implements AutoCloseable {
    private final CopyIn copy;
    private final StringBuilder buffer = new StringBuilder();

    Lines(CopyIn copy) {
      this.copy = copy;
    }

    /**
     * @param more the value of one more column, or null if there is none
     */
    void row(Object[] row, String more) throws SQLException {
      for (int i = 0; i < row.length; i++) {
        if (i > 0) {
          buffer.append('\t');
        }
        CopyText.append(buffer, row[i]);
      }
      if (more != null) {
        buffer.append('\t').append(more);
      }
      buffer.append('\n');
      if (buffer.length() > COPY_BYTES) {
        write();
      }
    }

    private void write() throws SQLException {
      byte[] bytes = buffer.toString().getBytes(java.nio.charset.StandardCharsets.UTF_8);
      copy.writeToCopy(bytes, 0, bytes.length);
      buffer.setLength(0);
    }

    void end() throws SQLException {
      write();
      copy.endCopy();
    }

    @Override
    public void close() throws SQLException {
      if (copy.isActive()) {
        copy.cancelCopy();
      }
    }
  }
}
