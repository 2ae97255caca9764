package dripledger.engine.circuit;

import dripledger.engine.error.EngineException;
import dripledger.engine.expr.RowProgram;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowWriter;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.view.RelationVersion.RowVisitor;

/** Makes the row of a block of a store at a time, as a relation shows it at a version. */
final class BlockReader {
  private final StoredRows rows;
  private final KeyedStore store;
  private final RowProgram program;
  private final Page between;
  private final RowWriter own;
  private final long version;

  /** Of the block that was read last: its key, then its state. */
  final long[] words;

  /** The key that is looked for. */
  final long[] wanted;

  /**
   * What rows are made in. A thread keeps it from one look-up to the next, since to make it takes
   * as long as to look a key up; so it knows nothing of the rows, which may have to go.
   */
  static final class Room {
    private static final int MOST_KEPT_BYTES = 4096;

    private final long[] words;
    private final long[] wanted;
    private final Page between; // or null: rows stay as they are stored
    private final RowWriter own;
    private boolean used;

    private Room(StoredRows rows, Finish finish) {
      between = finish.program() == null ? null : new Page(rows.layout(), 1);
      own = new RowWriter(finish.layout(), finish.layout().fixedBytes() + 32);
      words = new long[rows.store().keyWords() + rows.store().stateWords()];
      wanted = new long[rows.store().keyWords()];
    }

    /**
     * One that nobody uses until {@link #leave}.
     *
     * @param kept the thread's, or null in it
     */
    static Room enter(Room[] kept, StoredRows rows, Finish finish) {
      Room room = kept[0];
      if (room == null || room.used || !room.fits(rows)) { // a row's visitor may look for another
        room = new Room(rows, finish);
        kept[0] = kept[0] == null || !kept[0].used ? room : kept[0];
      }
      room.used = true;
      return room;
    }

    private boolean fits(StoredRows rows) {
      return wanted.length == rows.store().keyWords()
          && words.length == wanted.length + rows.store().stateWords()
          && own.bytes().length <= MOST_KEPT_BYTES;
    }

    void leave() {
      used = false;
    }
  }

  BlockReader(StoredRows rows, Finish finish, long version) {
    this(rows, finish, version, new Room(rows, finish));
  }

  BlockReader(StoredRows rows, Finish finish, long version, Room room) {
    this.rows = rows;
    this.version = version;
    store = rows.store();
    program = finish.program();
    between = room.between;
    own = room.own;
    words = room.words;
    wanted = room.wanted;
  }

  /** Writes the row of a block at the start of its own bytes, if it had one then. */
  boolean read(int block) {
    return store.read(block, version, words) && make();
  }

  /** Writes the row of the words that were read. */
  boolean make() {
    own.truncate(0);
    own.begin();
    if (!make(own)) {
      return false;
    }
    own.finish();
    return true;
  }

  /** Sets the columns of a row that was begun; answers whether there is one. */
  boolean make(RowWriter writer) {
    if (program == null) {
      return stored(writer);
    }
    between.clear();
    if (!stored(between.begin())) {
      between.abort();
      return false;
    }
    between.commit(1);
    try {
      return program.run(between.bytes(), between.start(0), writer);
    } catch (RuntimeException e) {
      return false; // it is among the rejects
    }
  }

  private boolean stored(RowWriter writer) {
    try {
      return rows.row(words, writer);
    } catch (RuntimeException e) {
      refuseIfGone(); // what the words refer to may have been used again
      throw e;
    }
  }

  byte[] bytes() {
    return own.bytes();
  }

  /** Gives the row as often as it is there; answers whether to go on. */
  boolean visit(RowVisitor visitor) {
    refuseIfGone();
    for (long n = rows.copies(words); n > 0; n--) {
      if (!visitor.visit(own.bytes(), 0)) {
        return false;
      }
    }
    return true;
  }

  private void refuseIfGone() {
    refuseIfGone(store, version);
  }

  /**
   * Says that what was read may be wrong.
   *
   * @throws EngineException if the version is no longer kept
   */
  static void refuseIfGone(KeyedStore store, long version) {
    if (!store.valid(version)) {
      throw new EngineException(
          EngineException.Code.LIMIT,
          "the rows of that epoch are no longer kept: reading them has taken too long",
          "ask for less at once, or raise drip.max-held-bytes, a quarter of which is for readers");
    }
  }
}
