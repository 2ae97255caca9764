package dripledger.server.wire;

import dripledger.engine.access.Caller;
import dripledger.engine.error.EngineException;
import dripledger.engine.statement.Session;
import dripledger.server.records.RecordsException;
import java.io.EOFException;
import java.io.IOException;
import java.io.UncheckedIOException;
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
  private final WireServer server;
  private final WireInput in;
  private final WireOutput out;
  private final Caller caller;
  private final Session engine;
  private final SessionVariables variables;
  private final SessionStatements own;
  private final Copies copies;
  private final ExtendedQuery prepared;
  private boolean
      untilSync; // the transaction nobody began: what changed tables since the last Sync
  private boolean failed; // the transaction, and only its end is taken
  private boolean skipping; // to the next Sync
  private volatile boolean cancelled;
  private StatementText current;
  private volatile String doing; // null while the client is waited for
  private final Thread thread = Thread.currentThread();
  private volatile long since = System.nanoTime();

  WireSession(
      WireServer server, WireInput in, WireOutput out, Startup.Client client, Caller caller) {
    this.caller = caller;
    this.server = server;
    this.in = in;
    this.out = out;
    engine = server.engine().session("wire-" + client.number(), caller);
    variables = new SessionVariables(server.serverVersion(), caller.role());
    own = new SessionStatements(this);
    copies = new Copies(server.engine(), this, in, out);
    prepared = new ExtendedQuery(this, server, in, out);
    client.settings().forEach(this::first);
  }

  /** A setting that came with the connection; those we do not have are passed over. */
  private void first(String name, String value) {
    try {
      variables.set(name, value);
      settingsChanged();
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

  /** Whether it is this thread that answers it. */
  boolean isOfThisThread() {
    return thread == Thread.currentThread();
  }

  /** Whose it is. */
  Caller caller() {
    return caller;
  }

  private void message(byte type) throws IOException {
    if ((type == 'Q' || type == 'E') && !skipping && !server.limits().take(caller())) {
      throw new WireError(
          "53400",
          "role " + caller().role() + " asks more often than it may",
          "ask less often, or let the owner raise requests_per_second");
    }
    if (type == 'S') {
      skipping = false;
      makeChanges();
      if (!engine.inTransaction()) {
        prepared.closePortals();
      }
      ready();
    } else if (type == 'Q') {
      skipping = false;
      makeChanges();
      query(in.text());
      ready();
    } else if (!skipping) {
      switch (type) {
        case 'P' -> prepared.parse();
        case 'B' -> prepared.bind();
        case 'D' -> prepared.describe();
        case 'E' -> prepared.execute();
        case 'C' -> prepared.close();
        case 'H' -> out.flush();
        case 'd', 'c', 'f' -> {} // of a copy that has failed
        default ->
            throw new WireInput.Malformed("a message of type " + (char) type + " is not known");
      }
    }
  }

  private void failed(RuntimeException e, byte type) throws IOException {
    if (untilSync) {
      untilSync = false;
      engine.rollback();
    } else if (engine.inTransaction()) {
      failed = true;
    }
    WireErrors.send(out, "ERROR", e, current);
    if (type == 'Q' || type == 'S') {
      ready();
    } else {
      skipping = true;
    }
  }

  private void ready() throws IOException {
    out.begin('Z').int8(failed ? 'E' : engine.inTransaction() ? 'T' : 'I').end();
  }

  /** Makes the changes that were to be made at the next Sync. */
  private void makeChanges() {
    if (untilSync) {
      untilSync = false;
      engine.commit();
    }
  }

  /**
   * Sees to it that the statements before one Sync are made or forgotten together, as the protocol
   * has it, as far as they change tables or only read. Anything else is done on its own.
   */
  void beforeSync(StatementText statement) {
    if (SessionStatements.endsTransaction(statement) && !SessionStatements.goesBack(statement)) {
      untilSync = false; // and with it what was changed so far
    } else if (!changesTables(statement)) {
      if (!onlyReads(statement)) {
        makeChanges();
      }
    } else if (!engine.inTransaction()) {
      engine.begin(false, engine.onlyReads());
      untilSync = true;
    }
  }

  // ---- one message, all of it

  private void query(String script) throws IOException {
    List<StatementText> all = StatementText.split(script);
    if (all.isEmpty()) {
      out.begin('I').end();
    }
    boolean together =
        all.size() > 1
            && !engine.inTransaction()
            && all.stream().allMatch(s -> changesTables(s) || onlyReads(s));
    try {
      if (together) { // and definitions one by one
        engine.begin(false, engine.onlyReads());
      }
      for (StatementText statement : all) {
        answer(statement);
      }
      if (together) {
        engine.commit();
      }
    } catch (RuntimeException e) {
      if (together) {
        engine.rollback();
      }
      throw e;
    }
  }

  private static boolean changesTables(StatementText s) {
    return s.begins("insert") || s.begins("update") || s.begins("delete");
  }

  private static boolean onlyReads(StatementText s) {
    return s.begins("select") || s.begins("with") || s.begins("values") || s.begins("table");
  }

  static boolean answersRows(StatementText s) {
    return onlyReads(s)
        || s.token(0).is("(")
        || s.begins("show")
        || s.begins("describe")
        || s.begins("explain");
  }

  private void answer(StatementText statement) throws IOException {
    began(statement);
    try (Portal portal = portal(statement)) {
      long rows = portal.answer(out);
      out.begin('C').text(portal.tag(rows)).end();
    }
  }

  /** A statement is going to be carried out. */
  void began(StatementText statement) {
    current = statement;
    cancelled = false;
    doing = statement.text();
    caller().reads(statement.text());
    refuseIfFailed(statement);
  }

  /** Says what the next error is about, and refuses what cannot be after one. */
  void refuseIfFailed(StatementText statement) {
    current = statement;
    if (failed && !SessionStatements.endsTransaction(statement)) {
      throw new WireError(
          "25P02",
          "an error has ended this transaction; nothing is done before it ends",
          "ROLLBACK");
    }
  }

  /** A statement without parameters, to be carried out. */
  @Override
  public Portal portal(StatementText statement) {
    return switch (kind(statement)) {
      case SESSION -> own.portal(statement);
      case COPY -> copies.portal(statement);
      case CATALOG -> server.catalog().portal(statement, List.of(), caller());
      default -> engine(statement, Map.of(), false, null);
    };
  }

  Portal engine(
      StatementText s, Map<String, Object> arguments, boolean described, List<Field> fields) {
    if (s.begins("follow")) {
      return new FollowPortal(server.engine(), s.text(), arguments, this);
    }
    return new EnginePortal(engine, s.text(), arguments, verb(s), described, fields, this::notice);
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

  Prepared.Kind kind(StatementText s) {
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

  // ---- for the statements of the session

  @Override
  public Session engine() {
    return engine;
  }

  @Override
  public String database() {
    return server.catalog().database();
  }

  @Override
  public SessionVariables variables() {
    return variables;
  }

  @Override
  public void settingsChanged() {
    engine.statementMillis(variables.millis("statement_timeout"));
    engine.readsByDefault(SessionVariables.isOn(variables.get("default_transaction_read_only")));
  }

  @Override
  public void deallocate(String name) {
    prepared.deallocate(name);
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

  /** The statement the next error is about. */
  void about(StatementText statement) {
    current = statement;
  }

  /** The cursor of this name, which is a portal too; or null. */
  Portal cursor(String name) {
    return own.open(name);
  }

  /** A statement that concerns the connection. */
  Portal ownPortal(StatementText statement) {
    return own.portal(statement);
  }

  Portal copy(StatementText statement) {
    return copies.portal(statement);
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
    prepared.closePortals();
    engine.close();
  }

  static boolean isGone(IOException e) {
    return e instanceof EOFException || e instanceof java.net.SocketException;
  }
}
