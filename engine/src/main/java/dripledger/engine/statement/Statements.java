package dripledger.engine.statement;

import dripledger.engine.access.Access;
import dripledger.engine.access.Caller;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.change.TableTransactions;
import dripledger.engine.definition.Definitions;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.introspection.Introspection;
import dripledger.engine.query.PointRead;
import dripledger.engine.query.PreparedQueries;
import dripledger.engine.query.QueryRunner;
import dripledger.engine.query.Result;
import dripledger.engine.query.RowCursor;
import dripledger.engine.query.RowSink;
import dripledger.engine.query.RunningScripts;
import dripledger.engine.row.ColumnType;
import dripledger.engine.sql.ArgumentKinds;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.PreparedQuery;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.engine.upkeep.Upkeeper;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.Snapshot;
import java.util.List;
import java.util.Map;
import java.util.concurrent.atomic.AtomicInteger;
import java.util.concurrent.locks.ReentrantLock;
import java.util.function.Consumer;
import java.util.function.LongSupplier;
import java.util.regex.Matcher;
import java.util.regex.Pattern;

/** Carries the statements of a script out, in order. Safe from any thread. */
public final class Statements {
  private static final Pattern UNKNOWN =
      Pattern.compile(
          "(?:there is )?no (?:(?!column|role|schema|option|parameter)[\\w ,]+ )?\"([^\"]+)\""
              + "|\"([^\"]+)\" may not be read");
  private static final Pattern OPTION = Pattern.compile("option \"(\\w+)\"");

  private static final int SHOWN = 1000; // characters of a statement
  private static final int MOST_CURSORS = 100; // each has a thread

  private final SqlFrontEnd frontEnd;
  private final PreparedQueries prepared;
  private final EpochLoop loop;
  private final QueryRunner runner;
  private final TableTransactions transactions;
  private final Introspection introspection;
  private final Definitions definitions;
  private final ReentrantLock definitionLock;
  private final Upkeeper upkeeper;
  private final SinkStatements sinks;
  private final LongSupplier nowMicros;
  private final Access access;
  private final RoleStatements roles;
  private final AtomicInteger cursors = new AtomicInteger(); // that are open

  /**
   * @param definitionLock held while something is defined
   * @param nowMicros the time of day, in microseconds since 1970
   */
  public Statements(
      SqlFrontEnd frontEnd,
      EpochLoop loop,
      QueryRunner runner,
      TableTransactions transactions,
      Introspection introspection,
      Definitions definitions,
      ReentrantLock definitionLock,
      Upkeeper upkeeper,
      SinkStatements sinks,
      Access access,
      LongSupplier nowMicros) {
    this.frontEnd = frontEnd;
    this.loop = loop;
    this.runner = runner;
    this.transactions = transactions;
    this.introspection = introspection;
    this.definitions = definitions;
    this.definitionLock = definitionLock;
    this.upkeeper = upkeeper;
    this.sinks = sinks;
    this.nowMicros = nowMicros;
    this.access = access;
    prepared = new PreparedQueries(frontEnd, nowMicros);
    roles = new RoleStatements(access);
  }

  /** See {@link dripledger.engine.Engine#execute(String, Map, String, Caller, Consumer)}. */
  public void execute(
      String script,
      Map<String, Object> arguments,
      String id,
      Caller caller,
      Consumer<Result> sink) {
    Command.QueryPlan known =
        prepared.find(script, arguments, caller.role(), caller.catalog(catalog()));
    if (known != null) {
      try (RunningScripts.Script running = runner.scripts().begin(id, script, caller);
          Pinned now = loop.pin()) {
        running.goOn();
        sink.accept(runner.answer(known, now.snapshot()));
      }
      return;
    }
    List<SqlFrontEnd.Parsed> statements = frontEnd.parse(script);
    try (RunningScripts.Script running = runner.scripts().begin(id, script, caller);
        TableTransactions.Transaction transaction = transactions.begin(id, statements.size())) {
      for (SqlFrontEnd.Parsed parsed : statements) {
        running.goOn();
        Command command = check(parsed, arguments, caller);
        try {
          sink.accept(execute(command, parsed.text(), transaction, caller));
          if (command instanceof Command.Query && parsed.isWhole()) {
            prepared.asked(script, arguments, caller.role(), caller.catalog(catalog()));
          }
        } catch (EngineException e) {
          throw placed(e, parsed);
        }
      }
      transaction.finish();
    }
  }

  /** What would be followed, if somebody may read what it reads. */
  public Command.QueryPlan followed(String sql, Map<String, Object> arguments, Caller caller) {
    List<SqlFrontEnd.Parsed> statements = frontEnd.parse(sql);
    if (statements.size() != 1) {
      throw new EngineException(Code.INVALID, "one query can be followed at a time", null);
    }
    String text = statements.get(0).text();
    boolean says = text.regionMatches(true, 0, "FOLLOW", 0, 6);
    SqlFrontEnd.Parsed parsed = says ? statements.get(0) : frontEnd.parse("FOLLOW " + text).get(0);
    try {
      Command command =
          frontEnd.check(parsed, caller.catalog(catalog()), arguments, nowMicros.getAsLong());
      if (!(command instanceof Command.Follow follow)) {
        throw new EngineException(Code.INVALID, "only a query can be followed", null);
      }
      return follow.plan();
    } catch (EngineException e) {
      // Places count in the text as it was given, not as it was completed.
      int moved = says || e.line() != 1 ? 0 : "FOLLOW ".length();
      throw concealed(
          new EngineException(
              e.code(), e.getMessage(), e.line(), Math.max(0, e.column() - moved), e.hint()),
          caller);
    }
  }

  /** The object of this name, if somebody may use it in any way. */
  public CatalogObject object(String name, Caller caller) {
    CatalogObject object = caller.catalog(catalog()).find(name);
    if (object == null) {
      throw concealed(
          new EngineException(
              Code.NOT_FOUND,
              "no stream, table or view \"" + name + "\"",
              "SHOW STREAMS, SHOW TABLES and SHOW VIEWS list what there is"),
          caller);
    }
    return object;
  }

  /** A client's own session; {@code id} is what its statements are cancelled by. */
  public Session session(String id, Caller caller) {
    return new Session(this, id, caller);
  }

  /** Checks a statement, and whether somebody may do it. */
  private Command check(SqlFrontEnd.Parsed parsed, Map<String, Object> arguments, Caller caller) {
    Catalog whole = catalog();
    try {
      Command command =
          frontEnd.check(parsed, caller.catalog(whole), arguments, nowMicros.getAsLong());
      Permissions.check(command, caller, whole);
      return command;
    } catch (EngineException e) {
      throw concealed(e, caller);
    }
  }

  /**
   * What somebody is told who names what is not there, or what is not for them: the same in both
   * cases.
   */
  public static EngineException concealed(EngineException e, Caller caller) {
    Matcher unknown = UNKNOWN.matcher(e.getMessage());
    if (caller.isOwner() || !unknown.matches()) {
      return e;
    }
    String name = unknown.group(1) == null ? unknown.group(2) : unknown.group(1);
    caller.note("refused", name, e.getMessage());
    boolean near = e.hint() != null && e.hint().startsWith("did you mean");
    return new EngineException(
        Code.FORBIDDEN,
        "there is no \"" + name + "\" that role " + caller.role() + " may read",
        e.line(),
        e.column(),
        near ? e.hint() : "its owner can GRANT SELECT ON " + name + " TO " + caller.role());
  }

  Catalog catalog() {
    return definitions.catalog();
  }

  RunningScripts scripts() {
    return runner.scripts();
  }

  Pinned pin() {
    return loop.pin();
  }

  long epoch() {
    return loop.snapshot().epoch();
  }

  TableTransactions.Transaction transaction() {
    return transactions.begin(null, 1);
  }

  SqlFrontEnd.Described describe(String text, Map<String, ColumnType> declared, Caller caller) {
    try {
      return frontEnd.describe(text, caller.catalog(catalog()), declared, nowMicros.getAsLong());
    } catch (EngineException e) {
      throw concealed(e, caller);
    }
  }

  PointRead pointRead(String text, Map<String, ColumnType> types, Caller caller) {
    Catalog catalog = caller.catalog(catalog());
    ArgumentKinds kinds = ArgumentKinds.ofTypes(types);
    PreparedQuery query = kinds == null ? null : frontEnd.prepare(text, catalog, kinds);
    return query == null ? null : PointRead.of(query, catalog, loop.snapshot());
  }

  /**
   * Carries one statement out.
   *
   * @param pinned what a query reads, or null for the newest epoch and the transaction's changes
   * @param sink takes the rows of a query, which are not in the answer then; or null
   */
  Result run(
      String text,
      Map<String, Object> arguments,
      TableTransactions.Transaction transaction,
      boolean readOnly,
      Pinned pinned,
      Caller caller,
      RowSink sink) {
    SqlFrontEnd.Parsed parsed = alone(text);
    Command command = check(parsed, arguments, caller);
    if (readOnly && !command.onlyReads()) {
      throw Session.refusedChange(pinned != null);
    }
    try {
      if (!(command instanceof Command.Query q)) {
        return execute(command, parsed.text(), transaction, caller);
      }
      Result answer =
          pinned == null
              ? transaction.answer(q.plan(), sink)
              : runner.answer(q.plan(), pinned.snapshot(), sink);
      prepared.asked(text, arguments, caller.role(), caller.catalog(catalog()));
      return answer;
    } catch (EngineException e) {
      throw placed(e, parsed);
    }
  }

  private SqlFrontEnd.Parsed alone(String text) {
    SqlFrontEnd.Parsed parsed = frontEnd.parse(text).get(0);
    if (!parsed.isWhole()) { // whoever cut it out has read it otherwise
      throw new EngineException(Code.SYNTAX, "there is more than one statement", "send each alone");
    }
    return parsed;
  }

  /**
   * The rows of a query, to be fetched one by one.
   *
   * @param now is closed when they are
   * @param millis how long it may read; 0 for as long as any
   * @return null if it is no query, or so many are open that it has to be answered as a whole
   */
  RowCursor cursor(
      String text, Map<String, Object> arguments, Pinned now, Caller caller, long millis) {
    if (cursors.incrementAndGet() > MOST_CURSORS) {
      cursors.decrementAndGet();
      return null;
    }
    RowCursor cursor = null;
    try {
      Command.QueryPlan plan = plan(text, arguments, caller);
      if (plan != null) {
        cursor = new RowCursor(plan, now, runner, text, caller, millis, cursors::decrementAndGet);
      }
      return cursor;
    } finally {
      if (cursor == null) {
        cursors.decrementAndGet();
      }
    }
  }

  private Command.QueryPlan plan(String text, Map<String, Object> arguments, Caller caller) {
    Catalog catalog = caller.catalog(catalog());
    Command.QueryPlan known = prepared.find(text, arguments, caller.role(), catalog);
    if (known == null && check(alone(text), arguments, caller) instanceof Command.Query q) {
      prepared.asked(text, arguments, caller.role(), catalog);
      return q.plan();
    }
    return known;
  }

  /** The answer to a query that was asked before and need not be planned; or null. */
  Result answerPrepared(
      String script,
      Map<String, Object> arguments,
      Snapshot snapshot,
      Caller caller,
      RowSink sink) {
    Command.QueryPlan plan =
        prepared.find(script, arguments, caller.role(), caller.catalog(catalog()));
    return plan == null ? null : runner.answer(plan, snapshot, sink);
  }

  /** Connectors name the option that is to blame; the statement knows where it stands. */
  private static EngineException placed(EngineException e, SqlFrontEnd.Parsed parsed) {
    Matcher option = OPTION.matcher(e.getMessage());
    return option.find() ? parsed.placed(e, option.group(1)) : e;
  }

  private Result cancel(long number, Caller caller) {
    if (!runner.scripts().cancel(number, caller)) {
      throw new EngineException(
          Code.NOT_FOUND,
          "no statement "
              + number
              + (caller.isOwner() ? "" : " of role " + caller.role())
              + " is being carried out",
          "SELECT number, ms, statement FROM drip.activity lists those that are");
    }
    caller.note("cancel", null, "statement " + number);
    return new Result.Done("cancelled statement " + number, loop.snapshot().epoch());
  }

  private Result execute(
      Command command, String sql, TableTransactions.Transaction transaction, Caller caller) {
    if (command instanceof Command.Query q) {
      return transaction.answer(q.plan());
    }
    if (command instanceof Command.Insert
        || command instanceof Command.Update
        || command instanceof Command.Delete) {
      return transaction.change(command);
    }
    if (command instanceof Command.Transaction t) {
      return transaction.step(t.step());
    }
    if (command instanceof Command.Show s) {
      return introspection.show(s, loop.snapshot(), caller);
    }
    if (command instanceof Command.Describe d) {
      return introspection.describe(d.name(), loop.snapshot());
    }
    if (command instanceof Command.ShowCreate s) {
      return introspection.showCreate(s.name(), loop.snapshot());
    }
    if (command instanceof Command.Explain e) {
      try (Pinned now = loop.pin()) { // what it reads must stay for as long as it does
        return introspection.explain(e, now.snapshot());
      }
    }
    if (command instanceof Command.Cancel c) {
      return cancel(c.number(), caller);
    }
    if (command instanceof Command.Follow) {
      throw new EngineException(
          Code.INVALID,
          "FOLLOW has no end, so it cannot be answered here",
          "use drip follow, or GET /api/v1/follow?sql=…");
    }
    transaction.refuseDefinitions();
    if (command instanceof Command.RefreshView r) {
      return upkeeper.refresh(r.name());
    }
    if (command instanceof Command.RefreshSink r) {
      return sinks.refresh(r.name());
    }
    if (command instanceof Command.ExplainSink e) {
      return sinks.preview(e.sink(), transaction);
    }
    definitionLock.lock();
    try {
      Result result = define(command, sql, caller);
      caller.note("define", Permissions.named(command), shortened(sql));
      return result;
    } finally {
      definitionLock.unlock();
    }
  }

  private static String shortened(String sql) {
    return sql.length() > SHOWN ? sql.substring(0, SHOWN) + "…" : sql;
  }

  private Result define(Command command, String sql, Caller caller) {
    String said =
        command instanceof Command.CreateRole r
            ? roles.create(r)
            : command instanceof Command.AlterRole r
                ? roles.alter(r)
                : command instanceof Command.Grant g
                    ? roles.grant(g, caller, catalog())
                    : command instanceof Command.Drop d && d.kind().equals("ROLE")
                        ? roles.drop(d)
                        : null;
    if (said != null) {
      return new Result.Done(said, epoch());
    }
    if (command instanceof Command.Drop d) {
      Result result = definitions.drop(d);
      access.settle(catalog());
      return result;
    }
    if (command instanceof Command.RefreshTable r) {
      return definitions.loads().refresh(r);
    }
    if (command instanceof Command.Index i) {
      return definitions.indexes().change(sql, i);
    }
    if (command instanceof Command.AddColumn || command instanceof Command.AlterOptions) {
      return definitions.alterations().alter(sql, command);
    }
    Command.Create create = (Command.Create) command;
    boolean fresh = catalog().find(create.name()) == null;
    Result result = definitions.create(sql, create);
    if (fresh) {
      access.made(caller, create.name());
    }
    return result;
  }
}
