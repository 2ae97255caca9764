package dripledger.engine.query;

import dripledger.engine.row.Page;
import dripledger.engine.view.RelationVersion;
import java.util.function.Consumer;

/** Rows that are given one by one, handed on in pages: first few, then more. One thread. */
final class Pieces {
  private static final int FIRST_ROWS = 64;

  private final Consumer<Page> sink;
  private final Page page;
  private RelationVersion version;
  private int full = FIRST_ROWS;

  Pieces(RelationVersion version, Consumer<Page> sink) {
    this.version = version;
    this.sink = sink;
    page = new Page(version.layout(), 1);
  }

  /** Reads the same rows in another order from here on. */
  Pieces of(RelationVersion order) {
    version = order;
    return this;
  }

  void find(Object[] values) {
    try {
      version.find(values, this::add);
    } catch (IllegalArgumentException e) {
      // a value that does not fit its column, and so is in no row
    }
  }

  void range(byte[] from, byte[] to, boolean descending) {
    version.range(from, to, descending, this::add);
  }

  private boolean add(byte[] bytes, int at) {
    page.append(bytes, at, version.layout().length(bytes, at), 1);
    if (page.size() >= full) {
      full = Math.min(RelationVersion.PIECE_ROWS, full * 4);
      end();
    }
    return true;
  }

  void end() {
    if (!page.isEmpty()) {
      sink.accept(page);
      page.clear();
    }
  }
}
