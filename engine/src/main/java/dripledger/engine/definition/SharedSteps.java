package dripledger.engine.definition;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.QueryNodes;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.epoch.EpochWait;
import dripledger.engine.plan.PlanCut;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.CompletableFuture;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.TimeoutException;

/**
 * The steps with state that live plans are made of, each there once however many plans have it, and
 * as long as one does. Safe from any thread.
 */
public final class SharedSteps {
  private static final long CHECK_MILLIS = 100;

  private final EpochLoop loop;
  private final Backfill backfill;
  private final Map<Long, Entry> entries = new HashMap<>();

  private static final class Entry {
    final PlanCut.Step step;
    final String name;
    QueryNode node;
    int uses;
    final Set<Long> lateKeepers = new HashSet<>();
    CompletableFuture<Void> made; // null until somebody makes it

    Entry(PlanCut.Step step, String name) {
      this.step = step;
      this.name = name;
      node = QueryNodes.step(step, name);
    }

    void renew() {
      node = QueryNodes.step(step, name);
      node.circuit().keepLate(lateKeepers);
    }
  }

  SharedSteps(EpochLoop loop, Backfill backfill) {
    this.loop = loop;
    this.backfill = backfill;
  }

  /**
   * Counts one more use of each step of a plan; what is new is only known so far.
   *
   * @param name whose plan it is
   */
  synchronized void use(PlanCut cut, String name) {
    for (PlanCut.Step step : cut.steps()) {
      entries.computeIfAbsent(step.id(), id -> new Entry(step, name)).uses++;
    }
  }

  /** Counts one more use of each step of a view's plan, which may have it keep what is late. */
  void use(CatalogObject object, PlanCut cut) {
    use(cut, object.name());
    if (object instanceof CatalogObject.MaterializedView view && view.keepsLate()) {
      keepLate(cut, view.id(), true);
    }
  }

  /** Takes that back. */
  void release(CatalogObject object, PlanCut cut) {
    if (object instanceof CatalogObject.MaterializedView view && view.keepsLate()) {
      keepLate(cut, view.id(), false);
    }
    release(cut);
  }

  private void keepLate(PlanCut cut, long view, boolean keeps) {
    List<Runnable> tell = new ArrayList<>();
    synchronized (this) {
      for (PlanCut.Step step : cut.steps()) {
        Entry entry = entries.get(step.id());
        boolean changed = keeps ? entry.lateKeepers.add(view) : entry.lateKeepers.remove(view);
        if (changed) {
          Set<Long> keepers = Set.copyOf(entry.lateKeepers);
          QueryNode node = entry.node;
          tell.add(() -> node.circuit().keepLate(keepers));
        }
      }
    }
    if (!tell.isEmpty()) {
      EpochWait.await(loop.between(() -> tell.forEach(Runnable::run)).exceptionally(e -> 0L));
    }
  }

  /** Takes back what {@link #use} counted; what nobody uses now leaves the graph. */
  void release(PlanCut cut) {
    List<QueryNode> unused = new ArrayList<>();
    synchronized (this) {
      for (PlanCut.Step step : cut.steps()) {
        Entry entry = entries.get(step.id());
        if (--entry.uses == 0) {
          entries.remove(step.id());
          unused.add(0, entry.node); // readers first
        }
      }
    }
    if (!unused.isEmpty()) {
      CompletableFuture<Long> left = loop.between(() -> unused.forEach(loop::detach));
      EpochWait.await(left.exceptionally(e -> 0L)); // the loop has ended, and the graph with it
    }
  }

  /** The relations that have to be read to make what a plan lacks; the steps there are, are not. */
  synchronized Set<Long> toRead(PlanCut cut) {
    Set<Long> read = new HashSet<>();
    Followers.relations(cut.top(), read);
    for (PlanCut.Step step : cut.steps()) {
      Entry entry = entries.get(step.id());
      if (entry == null || entry.made == null || !entry.made.isDone()) {
        Followers.relations(step.plan(), read);
      }
    }
    return read;
  }

  /** The node of a step that is in use. */
  public synchronized QueryNode node(long id) {
    return entries.get(id).node;
  }

  /** A new, empty node in the place of one that is of no use; at a start only. */
  public synchronized QueryNode renew(long id) {
    Entry entry = entries.get(id);
    entry.renew();
    return entry.node;
  }

  /** Says that a step takes part; at a start only. */
  public synchronized void isMade(long id) {
    entries.get(id).made = CompletableFuture.completedFuture(null);
  }

  /**
   * Fills the steps of a plan that take no part yet, or had failed, beside the live work.
   *
   * @param check run now and then; it throws to stop the work
   */
  void make(PlanCut cut, Runnable check) {
    for (PlanCut.Step step : cut.steps()) {
      make(step.id(), check);
    }
  }

  private void make(long id, Runnable check) {
    while (true) {
      CompletableFuture<Void> made;
      QueryNode failed = null;
      boolean mine = false;
      Entry entry;
      synchronized (this) {
        entry = entries.get(id);
        boolean done = entry.made != null && entry.made.isDone();
        failed = done && entry.node.failure() != null ? entry.node : null;
        if (entry.made == null || failed != null) {
          mine = true;
          entry.made = new CompletableFuture<>();
          if (failed != null) {
            entry.renew();
          }
        }
        made = entry.made;
      }
      if (mine) {
        makeNow(entry, failed, made, check);
        return;
      }
      if (waitFor(made, check)) {
        return;
      }
    }
  }

  private void makeNow(
      Entry entry, QueryNode failed, CompletableFuture<Void> made, Runnable check) {
    QueryNode node = entry.node;
    boolean done = false;
    try {
      backfill.fill(node, check);
      backfill.live(node, () -> takePlace(failed, node));
      done = true;
      made.complete(null);
    } finally {
      if (!done) {
        synchronized (this) {
          entry.made = failed == null ? null : CompletableFuture.completedFuture(null);
          if (failed == null) {
            entry.renew();
          } else {
            entry.node = failed;
          }
        }
        made.completeExceptionally(new IllegalStateException("not made"));
      }
    }
  }

  private void takePlace(QueryNode failed, QueryNode node) {
    if (failed != null) {
      loop.replace(failed, node);
    }
  }

  /** Waits for somebody else; false if that did not work out. */
  private static boolean waitFor(CompletableFuture<Void> made, Runnable check) {
    while (true) {
      try {
        made.get(CHECK_MILLIS, TimeUnit.MILLISECONDS);
        return true;
      } catch (TimeoutException e) {
        check.run();
      } catch (ExecutionException e) {
        return false;
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw new IllegalStateException("interrupted", e);
      }
    }
  }
}
