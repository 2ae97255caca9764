package dripledger.server.wire;

import dripledger.engine.error.EngineException;
import dripledger.engine.query.PointRead;
import dripledger.engine.row.ColumnType;
import dripledger.engine.sql.Argument;
import dripledger.engine.statement.Session;
import dripledger.server.records.RecordsException;
import java.io.EOFException;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.util.HashMap;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * One connection: reads a message, does what it says, answers. Runs on a thread of its own; others
 * may {@link #cancel} what it does.
 */
final class WireSession implements SessionStatements.Connection, AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(WireSession.class);
  private static final int MOST_NAMED = 1000; // prepared statements, and portals

  private final WireServer server;
  private final WireInput in;
  private final WireOutput out;
  private final Session engine;
  private final SessionVariables variables;
  private final SessionStatements own;
  private final Copies copies;
  private final Map<String, Prepared> statements = new HashMap<>();
  private final Map<String, Bound> portals = new HashMap<>();
  private long changes; // tried
  private boolean failed; // the transaction, and only its end is taken
  private boolean skipping; // to the next Sync
  private volatile boolean cancelled;
  private StatementText current;
  private volatile String doing; // null while the client is waited for
  private volatile long since = System.nanoTime();

  private record Bound(StatementText statement, Portal portal, Formats formats) {}

  WireSession(WireServer server, WireInput in, WireOutput out, Startup.Client client) {
    this.server = server;
    this.in = in;
    this.out = out;
    engine = server.engine().session("wire-" + client.number());
    variables = new SessionVariables(server.serverVersion());
    own = new SessionStatements(this);
    copies = new Copies(server.engine(), this, in, out);
    client.settings().forEach(this::first);
  }

  /** A setting that came with the connection; those we do not have are passed over. */
  private void first(String name, String value) {
    try {
      variables.set(name, value);
      engine.statementMillis(variables.millis("statement_timeout"));
    } catch (WireError e) {
      LOG.debug("a client set {}", name, e);
    }
  }

  /** Answers until the client goes. */
  void run() throws IOException {
    ready();
    while (true) {
      doing = null;
      since = System.nanoTime();
      byte type = in.next(server.maxMessageBytes());
      since = System.nanoTime();
      if (type == 'X') {
        return;
      }
      try {
        message(type);
      } catch (WireInput.Malformed e) {
        throw e;
      } catch (UncheckedIOException e) {
        throw e.getCause();
      } catch (EngineException | WireError | RecordsException e) {
        failed(e, type);
      } catch (RuntimeException e) {
        LOG.error("a message failed", e);
        failed(new WireError("XX000", "the service made a mistake; its log says more", null), type);
      }
    }
  }

  private void message(byte type) throws IOException {
    if (type == 'S') {
      skipping = false;
      ready();
    } else if (type == 'Q') {
      skipping = false;
      query(in.text());
      ready();
    } else if (!skipping) {
      switch (type) {
        case 'P' -> parse();
        case 'B' -> bind();
        case 'D' -> describe();
        case 'E' -> execute();
        case 'C' -> closeNamed();
        case 'H' -> out.flush();
        case 'd', 'c', 'f' -> {} // of a copy that has failed
        default ->
            throw new WireInput.Malformed("a message of type " + (char) type + " is not known");
      }
    }
  }

  private void failed(RuntimeException e, byte type) throws IOException {
    if (engine.inTransaction()) {
      failed = true;
    }
    WireErrors.send(out, "ERROR", e, current);
    if (type == 'Q') {
      ready();
    } else {
      skipping = true;
    }
  }

  private void ready() throws IOException {
    out.begin('Z').int8(failed ? 'E' : engine.inTransaction() ? 'T' : 'I').end();
  }

  // ---- one message, all of it

  private void query(String script) throws IOException {
    List<StatementText> all = StatementText.split(script);
    if (all.isEmpty()) {
      out.begin('I').end();
    }
    for (StatementText statement : all) {
      began(statement);
      try (Portal portal = portal(statement)) {
        List<Field> fields = portal.fields();
        if (fields != null) {
          Field.describe(out, fields, Formats.TEXT);
        }
        complete(portal, portal.send(out, Formats.TEXT, 0));
      }
    }
  }

  private void began(StatementText statement) {
    current = statement;
    cancelled = false;
    doing = statement.text();
    if (statement.begins("insert") || statement.begins("update") || statement.begins("delete")) {
      changes++;
    }
    if (failed && !SessionStatements.endsTransaction(statement)) {
      throw new WireError(
          "25P02",
          "an error has ended this transaction; nothing is done before it ends",
          "ROLLBACK");
    }
  }

  private void complete(Portal portal, long rows) throws IOException {
    out.begin('C').text(portal.tag(rows)).end();
  }

  /** A statement without parameters, to be carried out. */
  @Override
  public Portal portal(StatementText statement) {
    return switch (kind(statement)) {
      case SESSION -> own.portal(statement);
      case COPY -> copies.portal(statement);
      case CATALOG -> server.catalog().portal(statement, List.of());
      default -> engine(statement, Map.of(), null);
    };
  }

  private Portal engine(StatementText s, Map<String, Object> arguments, List<Field> described) {
    if (s.begins("follow")) {
      return new FollowPortal(server.engine(), s.text(), arguments, this);
    }
    return new Portals.Engine(
        () -> engine.execute(s.text(), arguments), verb(s), described, this::notice);
  }

  /** The first words of a statement that say what it does. */
  private static String verb(StatementText s) {
    StringBuilder verb = new StringBuilder(s.token(0).text().toUpperCase(Locale.ROOT));
    for (int i = 1;
        i < 5 && !s.begins("insert") && !s.begins("update") && !s.begins("delete");
        i++) {
      String word = s.token(i).text();
      switch (word) {
        case "or", "replace" -> {}
        case "stream",
            "table",
            "view",
            "materialized",
            "index",
            "connection",
            "sink",
            "endpoint",
            "role" ->
            verb.append(' ').append(word.toUpperCase(Locale.ROOT));
        default -> i = 5;
      }
    }
    return verb.toString();
  }

  private Prepared.Kind kind(StatementText s) {
    if (s.tokens().isEmpty()) {
      return Prepared.Kind.EMPTY;
    }
    if (SessionStatements.isOne(s)) {
      return Prepared.Kind.SESSION;
    }
    if (s.begins("copy")) {
      return Prepared.Kind.COPY;
    }
    return server.catalog().answers(s) ? Prepared.Kind.CATALOG : Prepared.Kind.ENGINE;
  }

  // ---- prepared statements

  private void parse() throws IOException {
    String name = in.text();
    String text = in.text();
    int[] oids = new int[in.count(4)];
    for (int i = 0; i < oids.length; i++) {
      oids[i] = in.int32();
    }
    if (!name.isEmpty() && statements.containsKey(name)) {
      throw new WireError("42P05", "the statement \"" + name + "\" is prepared already", null);
    }
    if (statements.size() >= MOST_NAMED) {
      throw new WireError("54000", "more than " + MOST_NAMED + " prepared statements", null);
    }
    current = null;
    Prepared known = server.preparations().known(text, oids, engine);
    statements.put(name, known != null ? known : prepare(text, oids));
    out.begin('1').end();
  }

  private Prepared prepare(String text, int[] oids) {
    List<StatementText> all = StatementText.split(text);
    if (all.size() > 1) {
      throw new WireError("42601", "one statement can be prepared at a time", null);
    }
    StatementText statement = all.isEmpty() ? new StatementText("", 0, List.of()) : all.get(0);
    current = statement;
    if (failed && !SessionStatements.endsTransaction(statement)) {
      began(statement);
    }
    Prepared.Kind kind = kind(statement);
    if (kind == Prepared.Kind.CATALOG) {
      return server.catalog().prepare(statement, oids);
    }
    boolean lists =
        statement.begins("show") || statement.begins("describe") || statement.begins("explain");
    if (kind == Prepared.Kind.ENGINE && !lists && !statement.begins("follow")) {
      return server.preparations().engine(statement, oids, engine);
    }
    // What these answer is known by asking, which changes nothing.
    List<Field> fields = null;
    if (kind != Prepared.Kind.EMPTY && kind != Prepared.Kind.COPY) {
      try (Portal portal = portal(statement)) {
        fields = portal.fields();
      }
    }
    return new Prepared(statement, kind, List.of(), new int[0], fields, null);
  }

  private Prepared statement(String name) {
    Prepared prepared = statements.get(name);
    if (prepared == null) {
      throw new WireError("26000", "there is no prepared statement \"" + name + "\"", null);
    }
    return prepared;
  }

  private void bind() throws IOException {
    String portal = in.text();
    Prepared prepared = statement(in.text());
    current = prepared.statement();
    Formats sent = Formats.read(in);
    int count = in.count(4);
    if (count != prepared.parameters().size()) {
      throw new WireError(
          "08P01",
          count + " values for a statement with " + prepared.parameters().size() + " parameters",
          null);
    }
    Object[] values = new Object[count];
    for (int i = 0; i < count; i++) {
      int length = in.int32();
      if (length >= 0) {
        int at = in.bytes(length);
        ColumnType type = prepared.parameters().get(i);
        values[i] =
            WireParameters.read("$" + (i + 1), type, in.buffer(), at, length, sent.isBinary(i));
      }
    }
    Formats wanted = Formats.read(in);
    Bound before = portals.get(portal);
    if (before != null) {
      if (!portal.isEmpty()) {
        throw new WireError("42P03", "the portal \"" + portal + "\" is open already", null);
      }
      before.portal.close();
    }
    if (portals.size() >= MOST_NAMED) {
      throw new WireError("54000", "more than " + MOST_NAMED + " portals", null);
    }
    began(prepared.statement());
    portals.put(portal, new Bound(prepared.statement(), portal(prepared, values), wanted));
    out.begin('2').end();
  }

  private Portal portal(Prepared prepared, Object[] values) {
    PointRead point = prepared.point();
    if (point != null && point.holds(engine.catalog()) && !engine.hasChanges()) {
      Object[] key = key(point, values);
      if (key != null) {
        return new Portals.Point(engine, point, key, prepared.fields());
      }
    }
    return switch (prepared.kind()) {
      case EMPTY -> Portals.done("", () -> {});
      case SESSION -> own.portal(prepared.statement());
      case COPY -> copies.portal(prepared.statement());
      case CATALOG ->
          server.catalog().portal(prepared.statement(), java.util.Arrays.asList(values));
      case ENGINE -> {
        Map<String, Object> arguments = new HashMap<>();
        for (int i = 0; i < values.length; i++) {
          arguments.put("$" + (i + 1), new Argument(prepared.parameters().get(i), values[i]));
        }
        yield engine(prepared.statement(), arguments, prepared.fields());
      }
    };
  }

  /** The values in the order of a key; null if one does not fit its column. */
  private static Object[] key(PointRead point, Object[] values) {
    String[] parameters = point.parameters();
    Object[] key = new Object[parameters.length];
    for (int i = 0; i < key.length; i++) {
      int number = Integer.parseInt(parameters[i], 1, parameters[i].length(), 10);
      key[i] = values[number - 1];
      boolean text = point.type(i).kind() == ColumnType.Kind.VARCHAR;
      if (text ? !(key[i] instanceof String) : !(key[i] instanceof Long)) {
        return null;
      }
    }
    return key;
  }

  private void describe() throws IOException {
    boolean statement = in.int8() == 'S';
    String name = in.text();
    if (statement) {
      Prepared prepared = statement(name);
      current = prepared.statement();
      out.begin('t').int16(prepared.oids().length);
      for (int oid : prepared.oids()) {
        out.int32(oid);
      }
      out.end();
      describe(prepared.fields(), Formats.TEXT);
    } else {
      Bound bound = bound(name);
      describe(bound.portal.fields(), bound.formats);
    }
  }

  private void describe(List<Field> fields, Formats formats) throws IOException {
    if (fields == null) {
      out.begin('n').end();
    } else {
      Field.describe(out, fields, formats);
    }
  }

  private Bound bound(String name) {
    Bound bound = portals.get(name);
    Portal cursor = bound == null ? own.open(name) : null;
    if (cursor != null) { // which is a portal too
      return new Bound(current, cursor, Formats.TEXT);
    }
    if (bound == null) {
      throw new WireError("34000", "there is no portal \"" + name + "\"", null);
    }
    return bound;
  }

  private void execute() throws IOException {
    Bound bound = bound(in.text());
    int most = in.int32();
    began(bound.statement);
    long rows = bound.portal.send(out, bound.formats, Math.max(0, most));
    String tag = bound.portal.hasEnded() ? bound.portal.tag(rows) : null;
    if (tag == null) {
      out.begin('s').end();
    } else if (tag.isEmpty()) {
      out.begin('I').end();
    } else {
      out.begin('C').text(tag).end();
    }
  }

  private void closeNamed() throws IOException {
    boolean statement = in.int8() == 'S';
    String name = in.text();
    if (statement) {
      statements.remove(name);
    } else {
      Bound bound = portals.remove(name);
      if (bound != null) {
        bound.portal.close();
      }
    }
    out.begin('3').end();
  }

  // ---- for the statements of the session

  @Override
  public Session engine() {
    return engine;
  }

  @Override
  public SessionVariables variables() {
    return variables;
  }

  @Override
  public void deallocate(String name) {
    if (name == null) {
      statements.clear();
    } else if (statements.remove(name) == null) {
      throw new WireError("26000", "there is no prepared statement \"" + name + "\"", null);
    }
  }

  @Override
  public void report(String name) {
    try {
      out.begin('S').text(name).text(variables.get(name)).end();
    } catch (IOException e) {
      throw new java.io.UncheckedIOException(e);
    }
  }

  @Override
  public void recovered() {
    failed = false;
  }

  @Override
  public long changes() {
    return changes;
  }

  @Override
  public boolean hasFailed() {
    return failed;
  }

  /** Tells the client something beside the answer. */
  void notice(String message) {
    try {
      WireErrors.notice(out, message);
    } catch (IOException e) {
      throw new java.io.UncheckedIOException(e);
    }
  }

  /** Sends what was gathered so far. */
  void flush() throws IOException {
    out.flush();
  }

  /**
   * Goes on unless the statement was cancelled.
   *
   * @throws WireError if it was
   */
  void goOn() {
    if (cancelled) {
      throw new WireError("57014", "the statement was cancelled", null);
    }
  }

  // ---- for other threads

  /** Ends the statement that is being carried out. */
  void cancel() {
    cancelled = true;
    engine.cancel();
  }

  /** What it is doing, or null if it waits for its client. */
  String doing() {
    return doing;
  }

  /** Since when it does that or waits, by {@link System#nanoTime}. */
  long since() {
    return since;
  }

  /** Whether its client holds a transaction open and says nothing. */
  boolean idlesInTransaction() {
    return doing == null && engine.inTransaction();
  }

  WireOutput output() {
    return out;
  }

  @Override
  public void close() {
    own.close();
    portals.values().forEach(b -> b.portal.close());
    engine.close();
  }

  static boolean isGone(IOException e) {
    return e instanceof EOFException || e instanceof java.net.SocketException;
  }
}
