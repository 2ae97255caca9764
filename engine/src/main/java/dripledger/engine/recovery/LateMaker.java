package dripledger.engine.recovery;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.definition.Definitions;
import java.util.ArrayList;
import java.util.List;
import java.util.concurrent.locks.ReentrantLock;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Makes what {@link Recovery} could not, again and again until its sources answer, while the rest
 * is served already.
 */
public final class LateMaker implements AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(LateMaker.class);
  private static final long RETRY_MILLIS = 5000;

  private final Definitions definitions;
  private final ReentrantLock definitionLock;
  private final Runnable whenMade;
  private volatile boolean closed;

  /**
   * @param whenMade run once everything is there
   */
  public LateMaker(Definitions definitions, ReentrantLock definitionLock, Runnable whenMade) {
    this.definitions = definitions;
    this.definitionLock = definitionLock;
    this.whenMade = whenMade;
  }

  /** Begins on a thread of its own, if there is anything to be made; inputs first. */
  public void start(List<CatalogObject> left) {
    if (!left.isEmpty()) {
      Thread thread = new Thread(() -> run(left), "late-maker");
      thread.setDaemon(true);
      thread.start();
    }
  }

  private void run(List<CatalogObject> left) {
    List<CatalogObject> waiting = new ArrayList<>(left);
    while (!closed && !waiting.isEmpty()) {
      // One source that stays away holds up nothing but what is read from it.
      waiting.removeIf(o -> closed || definitions.catalog().find(o.id()) == null || isMade(o));
      try {
        Thread.sleep(waiting.isEmpty() ? 0 : RETRY_MILLIS);
      } catch (InterruptedException e) {
        return;
      }
    }
    whenMade.run();
  }

  private boolean isMade(CatalogObject object) {
    definitionLock.lock();
    try {
      if (object instanceof CatalogObject.Table table) {
        definitions.loads().reload(table);
      } else {
        definitions.remake((CatalogObject.MaterializedView) object);
      }
      return true;
    } catch (RuntimeException e) {
      LOG.warn("{} cannot be made, trying again: {}", object.name(), e.getMessage());
      return false;
    } finally {
      definitionLock.unlock();
    }
  }

  /** Gives up what is still not made. */
  @Override
  public void close() {
    closed = true;
  }
}
