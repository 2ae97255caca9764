package dripledger.engine.change;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.query.QueryRunner;
import dripledger.engine.query.Result;
import dripledger.engine.query.RowSink;
import dripledger.engine.source.InputProgress;
import dripledger.engine.source.Ledger;
import dripledger.engine.sql.Command;
import dripledger.engine.view.Pinned;
import java.util.List;
import java.util.UUID;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.TimeoutException;
import java.util.concurrent.locks.ReentrantLock;
import java.util.function.LongSupplier;
import java.util.function.Supplier;

/**
 * Changes to tables, one transaction at a time: each is worked out against what all before it have
 * made, made durable as one append, and shown by one epoch. While the outcome of one is not known,
 * no other is taken. Safe from any thread; a transaction belongs to one.
 */
public final class TableTransactions {
  private static final String MADE_BEFORE = "made before, by a request of the same id";

  private final EpochLoop loop;
  private final QueryRunner runner;
  private final Ledger ledger;
  private final long changeMillis;
  private final Supplier<Catalog> catalog;
  private final LongSupplier nowMicros;
  private final Runnable refuseIfFull;
  private final ReentrantLock tableLock = new ReentrantLock();
  private CompletableFuture<Ledger.Receipt> lastChange; // not known to be shown; under tableLock

  /**
   * @param changeMillis how long a change waits for the ledger, and for those before it
   * @param refuseIfFull throws if nothing new may be taken in
   */
  public TableTransactions(
      EpochLoop loop,
      QueryRunner runner,
      Ledger ledger,
      long changeMillis,
      Supplier<Catalog> catalog,
      LongSupplier nowMicros,
      Runnable refuseIfFull) {
    this.loop = loop;
    this.runner = runner;
    this.ledger = ledger;
    this.changeMillis = changeMillis;
    this.catalog = catalog;
    this.nowMicros = nowMicros;
    this.refuseIfFull = refuseIfFull;
  }

  /**
   * Begins to take the statements of one script.
   *
   * @param request its id, or null
   * @param statements how many it has at most
   */
  public Transaction begin(String request, int statements) {
    return new Transaction(request, statements);
  }

  /** The epoch that shows the change with this id, or −1 if it has not been made (so far). */
  public long outcome(String id) {
    long sequence = ledger.made(id);
    return sequence < 0 ? -1 : awaitApplied(sequence);
  }

  /** Waits until the views show an append; answers the epoch that does. */
  public long awaitApplied(long sequence) {
    try {
      return loop.awaitSequence(sequence, changeMillis);
    } catch (TimeoutException e) {
      throw new EngineException(
          Code.UNAVAILABLE, "it is durable, but the views have not shown it yet", null);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }

  /** A place in a transaction to go back to. */
  public static final class Mark {
    private final TableChanges.Mark changes; // null if there were none

    private Mark(TableChanges.Mark changes) {
      this.changes = changes;
    }
  }

  /**
   * The changes to tables of one script, in units: each statement alone, or what BEGIN and COMMIT
   * enclose. Units are counted whether they change anything or not, so that a request that is sent
   * again counts them alike; all up to the last that was made before are passed over, also those
   * that changed nothing then and would now.
   */
  public final class Transaction implements AutoCloseable {
    private final String request;
    private final int statements;
    private Pinned seen;
    private TableChanges changes;
    private boolean explicit;
    private boolean marked; // somebody may want to go back to a part of it
    private boolean skipping; // what is enclosed was made by an earlier request
    private int units; // that have ended
    private int madeThrough = -1; // units that an earlier request of this id has made

    Transaction(String request, int statements) {
      this.request = request;
      this.statements = statements;
    }

    public Result answer(Command.QueryPlan plan) {
      return answer(plan, null);
    }

    /**
     * As above.
     *
     * @param sink takes the rows, which are not in the answer then; or null
     */
    public Result answer(Command.QueryPlan plan, RowSink sink) {
      if (changes != null) {
        return runner.answer(plan, changes.snapshot(), sink);
      }
      try (Pinned now = loop.pin()) {
        return runner.answer(plan, now.snapshot(), sink);
      }
    }

    /** Whether it has changed a table, and holds them all locked. */
    public boolean hasChanges() {
      return changes != null;
    }

    /** How far this transaction has come, for {@link #backTo}. */
    public Mark mark() {
      marked = true;
      return new Mark(changes == null ? null : changes.mark());
    }

    /**
     * Forgets what was changed since a mark of this transaction. If that was nothing but the first
     * changes, others may change tables again.
     */
    public void backTo(Mark mark) {
      if (mark.changes == null) {
        abandon();
      } else {
        changes.backTo(mark.changes);
      }
    }

    private TableChanges open() {
      if (changes == null) {
        lockTables();
        seen = loop.pin();
        changes = new TableChanges(catalog.get(), runner, seen.snapshot(), nowMicros.getAsLong());
      }
      return changes;
    }

    public Result change(Command command) {
      try {
        if (skipping) {
          return new Result.Done(MADE_BEFORE, loop.snapshot().epoch());
        }
        boolean first = changes == null;
        TableChanges open = open();
        if (first && units < madeThrough()) {
          abandon();
          if (explicit) {
            skipping = true;
          } else {
            units++;
          }
          return new Result.Done(MADE_BEFORE, loop.snapshot().epoch());
        }
        TableChanges.Changed done;
        if (command instanceof Command.Insert i) {
          refuseIfFull.run();
          done = open.insert(i);
        } else if (command instanceof Command.Update u) {
          done = open.update(u);
        } else {
          done = open.delete((Command.Delete) command);
        }
        if (explicit) {
          return new Result.Done(
              done.message() + " (at COMMIT)", loop.snapshot().epoch(), done.rows());
        }
        long epoch = commit();
        units++;
        return new Result.Done(done.message(), epoch, done.rows());
      } catch (RuntimeException e) {
        if (!marked) {
          abandon();
        }
        throw e;
      }
    }

    public Result step(Command.Transaction.Step step) {
      if (step == Command.Transaction.Step.BEGIN) {
        if (explicit) {
          throw new EngineException(Code.INVALID, "BEGIN inside BEGIN", "COMMIT first");
        }
        explicit = true;
        return new Result.Done("begun", loop.snapshot().epoch());
      }
      if (!explicit) {
        throw new EngineException(Code.INVALID, step + " without BEGIN", null);
      }
      explicit = false;
      marked = false;
      if (skipping) {
        skipping = false;
        units++;
        return new Result.Done(MADE_BEFORE, loop.snapshot().epoch());
      }
      if (step == Command.Transaction.Step.ROLLBACK) {
        abandon();
        units++;
        return new Result.Done("rolled back", loop.snapshot().epoch());
      }
      long epoch = changes == null ? loop.snapshot().epoch() : commit();
      units++;
      return new Result.Done("committed", epoch);
    }

    /**
     * Changes are worked out against what all changes before them have made, so they wait for each
     * other; and while the outcome of one is not known, no other is taken.
     */
    private void lockTables() {
      try {
        if (!tableLock.tryLock(changeMillis, TimeUnit.MILLISECONDS)) {
          throw new EngineException(
              Code.UNAVAILABLE,
              "other changes have been waiting for the database for too long",
              "nothing was changed; try again once it answers");
        }
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw new IllegalStateException("interrupted", e);
      }
      try {
        if (lastChange != null) {
          settled(lastChange);
          lastChange = null;
        }
      } catch (TimeoutException | InterruptedException e) {
        tableLock.unlock();
        throw new EngineException(
            Code.UNAVAILABLE,
            "an earlier change is not durable yet, and others must see it",
            "nothing was changed; try again once the database answers");
      } catch (RuntimeException e) {
        tableLock.unlock();
        throw e;
      }
    }

    /** Waits until a change is shown, or is known not to be made; answers the epoch or −1. */
    private long settled(CompletableFuture<Ledger.Receipt> change)
        throws TimeoutException, InterruptedException {
      try {
        long sequence = change.get(changeMillis, TimeUnit.MILLISECONDS).sequence();
        return loop.awaitSequence(sequence, changeMillis);
      } catch (ExecutionException e) {
        return -1;
      }
    }

    private String id(int unit) {
      return request == null ? UUID.randomUUID().toString() : request + "/" + unit;
    }

    private long commit() {
      List<Ledger.Entry> entries = changes.entries();
      if (entries.isEmpty()) {
        abandon();
        return loop.snapshot().epoch();
      }
      release(); // what was read is no longer needed, and what is replaced may go
      String id = id(units + 1);
      CompletableFuture<Ledger.Receipt> change = ledger.append(entries, InputProgress.NOTHING, id);
      try {
        lastChange = change;
        long epoch = settled(change);
        if (epoch < 0) {
          throw new EngineException(
              Code.FAILED,
              "the change could not be made durable",
              "nothing was changed; try again");
        }
        lastChange = null;
        return epoch;
      } catch (TimeoutException e) {
        throw new EngineException(
            Code.UNAVAILABLE,
            "the change is on its way, but the database has not acknowledged it",
            "GET /api/v1/changes/" + id + " tells what became of it; do not just send it again");
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw new IllegalStateException("interrupted", e);
      } finally {
        abandon();
      }
    }

    /** With the tables locked, when the outcome of an earlier request is known. */
    private int madeThrough() {
      if (madeThrough < 0) {
        madeThrough = request == null ? 0 : statements;
        while (madeThrough > 0 && ledger.made(id(madeThrough)) < 0) {
          madeThrough--;
        }
      }
      return madeThrough;
    }

    private void abandon() {
      if (changes != null) {
        changes = null;
        release();
        tableLock.unlock();
      }
    }

    private void release() {
      if (seen != null) {
        seen.close();
        seen = null;
      }
    }

    public void refuseDefinitions() {
      if (explicit) {
        throw new EngineException(
            Code.INVALID, "definitions cannot be part of a transaction", "COMMIT first");
      }
    }

    public void finish() {
      if (explicit) {
        abandon();
        throw new EngineException(
            Code.INVALID, "BEGIN without COMMIT: nothing was changed", "end with COMMIT");
      }
    }

    @Override
    public void close() {
      abandon();
    }
  }
}
