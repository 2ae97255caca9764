package dripledger.engine.circuit;

import dripledger.engine.error.EngineException;
import dripledger.engine.expr.RowProgram;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.BagBatch;
import dripledger.engine.state.SortedBag;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.view.RelationVersion;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.function.Consumer;

/**
 * The rows of a relation at one version, read from a store: nothing is copied. A look-up by the
 * whole key goes by its hash; an order is made when first asked for, see {@link OrderedIndex}.
 */
final class StoredVersion implements RelationVersion {
  private final StoredRows rows;
  private final KeyedStore store;
  private final Finish finish;
  private final long version;
  private final long count;
  private final long membership;
  private final SortedBag tree; // the order, if it is kept up to date
  private final List<RelationVersion> others;

  /** The relation as the version shows it that was published last; by the writer. */
  StoredVersion(StoredRows rows, Finish finish, long version, long count) {
    this.rows = rows;
    this.store = rows.store();
    this.finish = finish;
    this.version = version;
    this.count = count;
    this.membership = rows.membership();
    OrderedIndex index = finish.index(rows);
    tree = index == null ? null : index.at(version, membership);
    List<RelationVersion> all = new ArrayList<>();
    for (Finish other : finish.others()) {
      all.add(new StoredVersion(rows, other, version, count));
    }
    others = all;
  }

  @Override
  public List<RelationVersion> others() {
    return others;
  }

  @Override
  public RowLayout layout() {
    return finish.layout();
  }

  @Override
  public int[] key() {
    return finish.key().clone();
  }

  @Override
  public long count() {
    return count;
  }

  @Override
  public long heapBytes() {
    return rows.rowBytes();
  }

  /** Makes the row of a block at a time. Belongs to one thread. */
  private final class Reader {
    private final long[] words = new long[store.keyWords() + store.stateWords()];
    private final RowProgram program = finish.program();
    private final Page between = program == null ? null : new Page(rows.layout(), 1);
    private final RowWriter own = new RowWriter(layout(), layout().fixedBytes() + 32);

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
  }

  /** The table whose rows these are, kept by their key; null if it is something else. */
  KeptRows table() {
    return rows instanceof KeptRows kept && kept.rows() != null ? kept : null;
  }

  long version() {
    return version;
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

  @Override
  public void scan(Consumer<Page> sink) {
    Page page = new Page(layout(), 256);
    Reader reader = new Reader();
    int limit = store.blockLimit();
    for (int block = 0; block < limit; block++) {
      if (store.read(block, version, reader.words)) {
        if (reader.make(page.begin())) {
          page.commit(rows.copies(reader.words));
        } else {
          page.abort();
        }
      }
      if (page.size() >= PIECE_ROWS) {
        refuseIfGone();
        sink.accept(page);
        page.clear();
      }
    }
    refuseIfGone();
    if (!page.isEmpty()) {
      sink.accept(page);
    }
  }

  @Override
  public boolean finds(int columns) {
    if (finish.hashColumns() != null && columns == finish.key().length) {
      return true;
    }
    OrderedIndex index = finish.index(rows);
    return index != null && index.isMade(tree, membership);
  }

  @Override
  public boolean worthOrder() {
    OrderedIndex index = finish.index(rows);
    return index != null
        && (index.isDeclared() || index.isMade(tree, membership) || index.wasAskedFor());
  }

  @Override
  public void find(Object[] values, RowVisitor visitor) {
    int[] key = finish.key();
    int[] hashed = finish.hashColumns();
    if (hashed == null || values.length != key.length) {
      RelationVersion.super.find(values, visitor);
      return;
    }
    long[] wanted = new long[store.keyWords()];
    if (!rows.keys().encodeBoxed(inOrder(values, key, hashed), wanted)) {
      return;
    }
    Reader reader = new Reader();
    int block = store.lookup(store.hashOf(wanted, 0), wanted, version, reader.words);
    refuseIfGone();
    if (block != KeyedStore.NONE && reader.make()) {
      reader.visit(visitor);
    }
  }

  /** The values of key columns in the order in which they are hashed. */
  private static Object[] inOrder(Object[] values, int[] key, int[] hashed) {
    if (Arrays.equals(key, hashed)) {
      return values;
    }
    Object[] ordered = new Object[values.length];
    for (int g = 0; g < ordered.length; g++) {
      for (int k = 0; k < key.length; k++) {
        if (key[k] == hashed[g]) {
          ordered[g] = values[k];
        }
      }
    }
    return ordered;
  }

  @Override
  public void range(byte[] from, byte[] to, boolean descending, RowVisitor visitor) {
    new Ahead(visitor).visit(order(), from, to, descending);
    refuseIfGone();
  }

  /**
   * Reads the blocks of an order a group at a time, so that their loads wait for memory together. A
   * visitor may want only the first: the groups begin small.
   */
  private final class Ahead {
    private static final int FIRST = 8;
    private static final int MOST = 256;

    private final Reader reader = new Reader();
    private final int[] blocks = new int[MOST];
    private final RowVisitor visitor;
    private int count;
    private int group = FIRST;

    Ahead(RowVisitor visitor) {
      this.visitor = visitor;
    }

    void visit(SortedBag order, byte[] from, byte[] to, boolean descending) {
      OrderedIndex.range(order, from, to, descending, this::add);
      giveAll();
    }

    private boolean add(int block) {
      blocks[count++] = block;
      return count < group || giveAll();
    }

    private boolean giveAll() {
      int given = count;
      count = 0;
      group = Math.min(MOST, group * 2);
      store.lookAhead(blocks, given);
      for (int i = 0; i < given; i++) {
        if (reader.read(blocks[i]) && !reader.visit(visitor)) {
          return false;
        }
      }
      return true;
    }
  }

  private SortedBag order() {
    OrderedIndex index = finish.index(rows);
    return index == null ? sortedRows() : index.tree(tree, version, membership, this::giveKeys);
  }

  /** All blocks with their keys, also those that have no row now: one may come to them. */
  private void giveKeys(OrderedIndex.KeySink sink) {
    Reader reader = new Reader();
    int limit = store.blockLimit();
    for (int block = 0; block < limit; block++) {
      if (finish.isByRow()) {
        if (reader.read(block)) {
          sink.key(reader.bytes(), 0, block);
        }
      } else if (store.read(block, version, reader.words)) {
        sink.key(rows.keys().row(reader.words, 0), 0, block);
      }
    }
    refuseIfGone();
  }

  /** An order by columns that are computed: it is right for this version only. */
  private SortedBag sortedRows() {
    SortKeyCodec codec = new SortKeyCodec(layout(), finish.key());
    SortKeyCodec.ByteSink key = new SortKeyCodec.ByteSink();
    BagBatch batch = new BagBatch();
    Reader reader = new Reader();
    int limit = store.blockLimit();
    for (int block = 0; block < limit; block++) {
      if (reader.read(block)) {
        key.clear();
        codec.encode(reader.bytes(), 0, key);
        OrderedIndex.add(batch, key, block, 1);
      }
    }
    refuseIfGone();
    return SortedBag.EMPTY.apply(batch);
  }
}
