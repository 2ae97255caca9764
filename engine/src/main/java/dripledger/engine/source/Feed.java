package dripledger.engine.source;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.row.Page;
import java.util.function.Consumer;

/**
 * A connector at work: reads a source on a thread of its own from a position on, without end. It
 * tries again by itself when the source cannot be reached. Methods may be called from any thread.
 */
public interface Feed extends AutoCloseable {
  /**
   * Reads the rows a table has at one moment, in pieces, for a feed whose tables start with rows.
   * The changes after that moment are kept back until {@link #join}. Long-running; the caller's
   * thread.
   *
   * @param rows given pages of the table's own layout, valid during the call
   */
  default void load(CatalogObject.Table table, Consumer<Page> rows) throws InterruptedException {
    throw new IllegalStateException("this feed has nothing to load");
  }

  /**
   * Lets a loaded table take part: at a point where the feed has passed the moment of the load,
   * {@code attach} and the changes kept back are submitted as one unit. Returns when that is shown.
   */
  default void join(CatalogObject.Table table, Runnable attach) throws InterruptedException {
    throw new IllegalStateException("this feed has nothing to load");
  }

  /** Forgets a table: it was dropped, or its load failed. */
  default void leave(long objectId) {}

  /** A checkpoint holds everything up to this position. */
  default void durable(SourcePosition position) {}

  /** How it does at this moment. */
  FeedStatus status();

  /** Ends reading; what was submitted stays. */
  @Override
  void close();
}
