package dripledger.engine.statement;

import dripledger.engine.catalog.Catalog;
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
import dripledger.engine.query.RunningScripts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.PreparedQuery;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.engine.upkeep.Upkeeper;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.Snapshot;
import java.util.List;
import java.util.Map;
import java.util.concurrent.locks.ReentrantLock;
import java.util.function.Consumer;
import java.util.function.LongSupplier;
import java.util.regex.Matcher;
import java.util.regex.Pattern;

/** Carries the statements of a script out, in order. Safe from any thread. */
public final class Statements {
  private static final Pattern OPTION = Pattern.compile("option \"(\\w+)\"");

  private final SqlFrontEnd frontEnd;
  private final PreparedQueries prepared = new PreparedQueries();
  private final EpochLoop loop;
  private final QueryRunner runner;
  private final TableTransactions transactions;
  private final Introspection introspection;
  private final Definitions definitions;
  private final ReentrantLock definitionLock;
  private final Upkeeper upkeeper;
  private final SinkStatements sinks;
  private final LongSupplier nowMicros;

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
  }

  /** See {@link dripledger.engine.Engine#execute(String, Map, String, Consumer)}. */
  public void execute(
      String script, Map<String, Object> arguments, String id, Consumer<Result> sink) {
    Result known = answerPrepared(script, arguments);
    if (known != null) {
      sink.accept(known);
      return;
    }
    List<SqlFrontEnd.Parsed> statements = frontEnd.parse(script);
    try (RunningScripts.Script running = runner.scripts().begin(id, script);
        TableTransactions.Transaction transaction = transactions.begin(id, statements.size())) {
      for (SqlFrontEnd.Parsed parsed : statements) {
        running.goOn();
        Command command =
            frontEnd.check(parsed, definitions.catalog(), arguments, nowMicros.getAsLong());
        try {
          sink.accept(execute(command, parsed.text(), transaction));
          if (command instanceof Command.Query && parsed.isWhole()) {
            prepared.asked(script, frontEnd, definitions.catalog());
          }
        } catch (EngineException e) {
          throw placed(e, parsed);
        }
      }
      transaction.finish();
    }
  }

  /** A client's own session; {@code id} is what its statements are cancelled by. */
  public Session session(String id) {
    return new Session(this, id);
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

  SqlFrontEnd.Described describe(String text, Map<String, ColumnType> declared) {
    return frontEnd.describe(text, catalog(), declared, nowMicros.getAsLong());
  }

  PointRead pointRead(String text) {
    Catalog catalog = catalog();
    PreparedQuery query = frontEnd.prepare(text, catalog);
    return query == null ? null : PointRead.of(query, catalog, loop.snapshot());
  }

  /**
   * Carries one statement out.
   *
   * @param pinned what a query reads, or null for the newest epoch and the transaction's changes
   */
  Result run(
      String text,
      Map<String, Object> arguments,
      TableTransactions.Transaction transaction,
      boolean readOnly,
      Pinned pinned) {
    SqlFrontEnd.Parsed parsed = frontEnd.parse(text).get(0);
    if (!parsed.isWhole()) { // whoever cut it out has read it otherwise
      throw new EngineException(Code.SYNTAX, "there is more than one statement", "send each alone");
    }
    Command command = frontEnd.check(parsed, catalog(), arguments, nowMicros.getAsLong());
    if (readOnly && !command.onlyReads()) {
      throw Session.refusedChange(pinned != null);
    }
    try {
      if (!(command instanceof Command.Query q)) {
        return execute(command, parsed.text(), transaction);
      }
      Result answer =
          pinned == null
              ? transaction.answer(q.plan())
              : runner.answer(q.plan(), pinned.snapshot());
      prepared.asked(text, frontEnd, catalog());
      return answer;
    } catch (EngineException e) {
      throw placed(e, parsed);
    }
  }

  /**
   * Gives the rows of a query as they come, if it does not order or limit them.
   *
   * @return false if it has to be answered as a whole
   */
  boolean stream(String text, Pinned now, Consumer<List<Column>> columns, Consumer<Object[]> rows) {
    SqlFrontEnd.Parsed parsed = frontEnd.parse(text).get(0);
    Command command = frontEnd.check(parsed, catalog(), Map.of(), nowMicros.getAsLong());
    if (!(command instanceof Command.Query q)
        || !q.plan().order().isEmpty()
        || q.plan().offset() > 0
        || q.plan().limit() >= 0) {
      return false;
    }
    columns.accept(q.plan().columns());
    int[] outputs = q.plan().outputs();
    runner.run(
        q.plan().plan(),
        now.snapshot(),
        page -> {
          for (int i = 0; i < page.size(); i++) {
            Object[] row = new Object[outputs.length];
            for (int c = 0; c < row.length; c++) {
              row[c] = BoxedRows.readColumn(page.layout(), page.bytes(), page.start(i), outputs[c]);
            }
            for (long n = page.weight(i); n > 0; n--) {
              rows.accept(row);
            }
          }
        });
    return true;
  }

  /** The answer to a query that was asked before and need not be planned; or null. */
  private Result answerPrepared(String script, Map<String, Object> arguments) {
    try (Pinned now = loop.pin()) {
      return answerPrepared(script, arguments, now.snapshot());
    }
  }

  Result answerPrepared(String script, Map<String, Object> arguments, Snapshot snapshot) {
    PreparedQuery query = prepared.find(script, definitions.catalog());
    Map<Integer, Object> values = query == null ? null : PreparedQueries.bound(query, arguments);
    return values == null ? null : runner.answerBound(query, values, snapshot);
  }

  /** Connectors name the option that is to blame; the statement knows where it stands. */
  private static EngineException placed(EngineException e, SqlFrontEnd.Parsed parsed) {
    Matcher option = OPTION.matcher(e.getMessage());
    return option.find() ? parsed.placed(e, option.group(1)) : e;
  }

  private Result cancel(long number) {
    if (!runner.scripts().cancel(number)) {
      throw new EngineException(
          Code.NOT_FOUND,
          "no statement " + number + " is being carried out",
          "SELECT number, ms, statement FROM drip.activity lists those that are");
    }
    return new Result.Done("cancelled statement " + number, loop.snapshot().epoch());
  }

  private Result execute(Command command, String sql, TableTransactions.Transaction transaction) {
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
      return introspection.show(s, loop.snapshot());
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
      return cancel(c.number());
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
      if (command instanceof Command.Drop d) {
        return definitions.drop(d);
      }
      if (command instanceof Command.RefreshTable r) {
        return definitions.loads().refresh(r);
      }
      if (command instanceof Command.Index i) {
        return definitions.indexes().change(sql, i);
      }
      return command instanceof Command.AddColumn || command instanceof Command.AlterOptions
          ? definitions.alterations().alter(sql, command)
          : definitions.create(sql, (Command.Create) command);
    } finally {
      definitionLock.unlock();
    }
  }
}
