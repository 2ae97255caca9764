package dripledger.engine.statement;

import dripledger.engine.access.Caller;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.change.TableTransactions;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.query.PointRead;
import dripledger.engine.query.Result;
import dripledger.engine.query.RowCursor;
import dripledger.engine.query.RowSink;
import dripledger.engine.query.RunningScripts;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.engine.view.Pinned;
import java.util.List;
import java.util.Map;

/**
 * The statements of one client, one after the other, in transactions that last as long as the
 * client wants. Belongs to one thread; {@link #cancel} is for any.
 */
public final class Session implements AutoCloseable {
  private final Statements statements;
  private final String id;
  private final Caller caller;
  private TableTransactions.Transaction transaction;
  private Pinned pinned; // what a transaction reads that reads one epoch
  private boolean readOnly;
  private long statementMillis;
  private boolean readsByDefault;
  private volatile RowCursor awaited;

  /**
   * @param id by which its statements can be cancelled
   */
  Session(Statements statements, String id, Caller caller) {
    this.statements = statements;
    this.id = id;
    this.caller = caller;
  }

  /** Whose it is. */
  public Caller caller() {
    return caller;
  }

  /**
   * How long each query may take.
   *
   * @param millis 0 for as long as the service allows
   */
  public void statementMillis(long millis) {
    statementMillis = millis;
  }

  /** Whether statements outside a transaction may only read. */
  public void readsByDefault(boolean readsByDefault) {
    this.readsByDefault = readsByDefault;
  }

  /** Whether the next statement may only read. */
  public boolean onlyReads() {
    return transaction == null ? readsByDefault : readOnly;
  }

  /**
   * Lets nothing be changed where only reading is wanted.
   *
   * @throws EngineException (INVALID) if the next statement may only read
   */
  public void refuseIfOnlyReads() {
    if (onlyReads()) {
      throw refusedChange(pinned != null);
    }
  }

  /** What a statement takes and answers, see {@link SqlFrontEnd#describe}. */
  public SqlFrontEnd.Described describe(String text, Map<String, ColumnType> declared) {
    return statements.describe(text, declared, caller);
  }

  /**
   * The query as a read by key, or null if it is something else.
   *
   * @param types of its parameters
   */
  public PointRead pointRead(String text, Map<String, ColumnType> types) {
    return statements.pointRead(text, types, caller);
  }

  /** What it sees. */
  public Catalog catalog() {
    return caller.catalog(statements.catalog());
  }

  /**
   * What is read by the next statement if it is a query, to be closed after it.
   *
   * @return null if it must see what this transaction has changed
   */
  public Pinned read() {
    if (hasChanges()) {
      return null;
    }
    return pinned != null ? new Pinned(pinned.snapshot(), null) : statements.pin();
  }

  /** Whether the transaction has changed something, so that only its own statements see it. */
  public boolean hasChanges() {
    return transaction != null && transaction.hasChanges();
  }

  /** Whether a transaction was begun. */
  public boolean inTransaction() {
    return transaction != null;
  }

  /**
   * Begins a transaction.
   *
   * @param oneEpoch whether all its queries read the epoch of the first; it cannot change anything
   *     then
   */
  public void begin(boolean oneEpoch, boolean onlyReads) {
    transaction = statements.transaction();
    transaction.step(Command.Transaction.Step.BEGIN);
    readOnly = onlyReads || oneEpoch;
    if (oneEpoch) {
      pinned = statements.pin();
    }
  }

  /** Ends the transaction, if there is one, and makes its changes; answers the epoch. */
  public Result commit() {
    return end(Command.Transaction.Step.COMMIT);
  }

  /** Ends the transaction, if there is one, and forgets its changes. */
  public Result rollback() {
    return end(Command.Transaction.Step.ROLLBACK);
  }

  /**
   * How far the transaction has come. From now on a statement that fails takes nothing of what came
   * before with it.
   */
  public TableTransactions.Mark mark() {
    return transaction.mark();
  }

  /** Forgets what the transaction has changed since a mark of it. */
  public void backTo(TableTransactions.Mark mark) {
    transaction.backTo(mark);
  }

  private Result end(Command.Transaction.Step step) {
    TableTransactions.Transaction ending = transaction;
    transaction = null;
    if (pinned != null) {
      pinned.close();
      pinned = null;
    }
    readOnly = false;
    if (ending == null) {
      return new Result.Done("there is no transaction", statements.epoch());
    }
    try (ending) {
      return ending.step(step);
    }
  }

  /**
   * Carries one statement out. In a transaction that an error has ended nothing more can be done
   * but {@link #rollback}; it is for the caller to see to that.
   *
   * @param arguments values of its parameters
   * @param sink takes the rows, if it answers any; they are not in the answer then. If it is null,
   *     they are, and have a bound
   */
  public Result execute(String text, Map<String, Object> arguments, RowSink sink) {
    if (sink == null) {
      return executed(text, arguments, null);
    }
    Once once = new Once(sink);
    Result result = executed(text, arguments, once);
    if (result instanceof Result.Rows listed && !once.told) { // not of a query
      sink.columns(listed.columns());
      listed.rows().forEach(sink::row);
    }
    return result;
  }

  /** Knows whether a query has told its columns. */
  private static final class Once implements RowSink {
    private final RowSink sink;
    private boolean told;

    private Once(RowSink sink) {
      this.sink = sink;
    }

    @Override
    public void columns(List<Column> columns) {
      told = true;
      sink.columns(columns);
    }

    @Override
    public void row(Object[] row) {
      sink.row(row);
    }
  }

  private Result executed(String text, Map<String, Object> arguments, RowSink sink) {
    try (RunningScripts.Script running =
        statements.scripts().begin(id, text, caller, statementMillis)) {
      running.goOn();
      if (pinned != null || transaction == null || !transaction.hasChanges()) {
        try (Pinned now = read()) {
          Result known = statements.answerPrepared(text, arguments, now.snapshot(), caller, sink);
          if (known != null) {
            return known;
          }
        }
      }
      if (transaction != null) {
        return statements.run(text, arguments, transaction, readOnly, pinned, caller, sink);
      }
      try (TableTransactions.Transaction alone = statements.transaction()) {
        return statements.run(text, arguments, alone, readsByDefault, null, caller, sink);
      }
    }
  }

  /**
   * The rows of a query, to be fetched one by one, all of one epoch.
   *
   * @return null if it is no query, must see what this transaction has changed, or too many are
   *     open; then it is for {@link #execute}
   */
  public RowCursor cursor(String text, Map<String, Object> arguments) {
    if (hasChanges()) {
      return null;
    }
    Pinned now = pinned != null ? pinned.again() : statements.pin();
    RowCursor cursor = null;
    try {
      cursor = statements.cursor(text, arguments, now, caller, statementMillis);
      return cursor;
    } finally {
      if (cursor == null) {
        now.close();
      }
    }
  }

  /**
   * Waits for the next row of a cursor of this session, so that {@link #cancel} ends it.
   *
   * @return null if there is none
   */
  public Object[] next(RowCursor cursor) {
    awaited = cursor;
    try {
      return cursor.next();
    } finally {
      awaited = null;
    }
  }

  /** Ends the statement that is being carried out, if there is one. Safe from any thread. */
  public boolean cancel() {
    RowCursor waitedFor = awaited;
    if (waitedFor != null) {
      waitedFor.cancel();
    }
    return statements.scripts().cancel(id, caller);
  }

  static EngineException refusedChange(boolean oneEpoch) {
    return new EngineException(
            Code.INVALID,
            "this transaction only reads",
            oneEpoch
                ? "BEGIN without an isolation level sees the newest epoch, and can change tables"
                : "BEGIN READ WRITE")
        .state("25006");
  }

  /** Forgets the changes of a transaction that is open. */
  @Override
  public void close() {
    rollback();
  }
}
