package dripledger.engine.store;

/**
 * Makes old headers of a store newer before the clock comes round to them: a block a version is
 * more than enough. What nobody can tell apart any more, the floor and all before it, may say that
 * it is of the floor. By the writer.
 */
final class HeaderSweep {
  /** Versions between two steps, and blocks of one. */
  private static final int STEP = 256;

  /** Versions after which a header is old. */
  private static final int OLD = 1 << 28;

  private final KeyedStore store;
  private long at; // the version of the last step
  private int done; // blocks below are done in this round

  HeaderSweep(KeyedStore store, long version) {
    this.store = store;
    at = version;
  }

  /** A version has ended. */
  void ended(long version, long floor, int blockCount) {
    if (version - at < STEP) {
      return;
    }
    at = version;
    int last = Math.min(blockCount, done + STEP);
    for (int block = done; block < last; block++) {
      long header = store.page(block)[store.header(block)];
      if ((int) floor - (int) (header >>> 32) > OLD) {
        set(block, floor, header);
      }
    }
    done = last == blockCount ? 0 : last;
  }

  /** The store goes over to another clock; nobody reads it yet. */
  void joined(Versions other, int blockCount) {
    long before = at;
    at = other.published();
    for (int block = 0; at - before > OLD && block < blockCount; block++) {
      set(block, other.floor(), store.page(block)[store.header(block)]);
    }
  }

  private void set(int block, long floor, long header) {
    long renewed = floor << 32 | header & 0xFFFFFFFFL;
    KeyedReads.WORD.setRelease(store.page(block), store.header(block), renewed);
  }
}
