package dripledger.engine.definition;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.locks.ReentrantLock;
import java.util.function.Supplier;
import java.util.stream.Collectors;

/**
 * What is being made or filled beside other definitions. Loading a table or filling a view may take
 * long, so it is done with the definition lock released: meanwhile the name is taken, what is used
 * cannot be dropped or altered, and DROP of the thing itself stops the work. Every method is called
 * with the lock held, once.
 */
final class OngoingWork {
  private final ReentrantLock lock;
  private final Supplier<Catalog> catalog;
  private final List<Entry> entries = new ArrayList<>();

  private static final class Entry {
    final String name;
    final String text;
    final Set<Long> uses;
    volatile boolean stopped;

    Entry(String name, String text, Set<Long> uses) {
      this.name = name;
      this.text = text;
      this.uses = uses;
    }

    /** What is filled again may itself be dropped, which stops the filling. */
    boolean reads(CatalogObject object) {
      return uses.contains(object.id()) && !object.name().equals(name);
    }
  }

  /** Long work; it calls the runnable now and then, which throws if it is to stop. */
  @FunctionalInterface
  interface Work {
    void run(Runnable check) throws InterruptedException;
  }

  OngoingWork(ReentrantLock lock, Supplier<Catalog> catalog) {
    this.lock = lock;
    this.catalog = catalog;
  }

  /**
   * Runs work with the lock released.
   *
   * @param name what is made, or null for what has no name
   * @param text how it is shown
   * @param uses numbers of what it reads
   * @throws EngineException if it was stopped, or what it reads is not there any more
   */
  void beside(String name, String text, Set<Long> uses, Work work) {
    Entry entry = new Entry(name, text, uses);
    Map<Long, CatalogObject> before = new HashMap<>();
    uses.forEach(id -> before.put(id, catalog.get().find(id)));
    entries.add(entry);
    lock.unlock();
    try {
      work.run(() -> refuseIfStopped(entry));
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    } finally {
      lock.lock();
      entries.remove(entry);
    }
    refuseIfStopped(entry);
    before.forEach(
        (id, object) -> {
          if (catalog.get().find(id) != object) {
            throw new EngineException(
                Code.FAILED,
                "\"" + object.name() + "\" was changed while " + text + " was being made",
                "run the statement again");
          }
        });
  }

  private static void refuseIfStopped(Entry entry) {
    if (entry.stopped) {
      throw new EngineException(
          Code.FAILED, entry.text + " was dropped while it was being made", null);
    }
  }

  /** Whether something of this name is being made or filled. */
  boolean has(String name) {
    return entries.stream().anyMatch(e -> name.equals(e.name));
  }

  /** Whether something that is being made reads from this. */
  boolean uses(CatalogObject object) {
    return entries.stream().anyMatch(e -> e.reads(object));
  }

  /** Refuses to drop or change what something reads that is being made. */
  void refuseIfUsed(CatalogObject object, String done) {
    if (uses(object)) {
      throw new EngineException(
          Code.IN_USE,
          object.name()
              + " cannot be "
              + done
              + ": "
              + entries.stream()
                  .filter(e -> e.reads(object))
                  .map(e -> e.text)
                  .collect(Collectors.joining(", "))
              + " is being made from it",
          "wait until that is done, or DROP it, which stops it");
    }
  }

  /** Tells the work on this name to stop; answers whether there was any. */
  boolean stop(String name) {
    List<Entry> found = entries.stream().filter(e -> name.equals(e.name)).toList();
    found.forEach(e -> e.stopped = true);
    return !found.isEmpty();
  }
}
