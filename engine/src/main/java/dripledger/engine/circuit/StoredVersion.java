package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
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
    this.membership = finish.isByRow() ? rows.rowChanges() : rows.membership();
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

  /** How each row is found by its key; null if it is not. */
  KeyedRows byKey() {
    return KeyedRows.of(rows, finish);
  }

  long version() {
    return version;
  }

  private void refuseIfGone() {
    BlockReader.refuseIfGone(store, version);
  }

  @Override
  public void scan(Consumer<Page> sink) {
    Page page = new Page(layout(), 256);
    BlockReader reader = new BlockReader(rows, finish, version);
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
    BlockReader.Room room = BlockReader.Room.enter(finish.room(), rows, finish);
    BlockReader reader = new BlockReader(rows, finish, version, room);
    try {
      if (rows.keys().encodeBoxed(inOrder(values, key, hashed), reader.wanted)) {
        long hash = store.hashOf(reader.wanted, 0);
        int block = store.lookup(hash, reader.wanted, version, reader.words);
        if (block == KeyedStore.NONE) {
          refuseIfGone();
        } else if (reader.make()) {
          reader.visit(visitor);
        }
      }
    } finally {
      room.leave();
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

    private final BlockReader reader = new BlockReader(rows, finish, version);
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
    BlockReader reader = new BlockReader(rows, finish, version);
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
    BlockReader reader = new BlockReader(rows, finish, version);
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
