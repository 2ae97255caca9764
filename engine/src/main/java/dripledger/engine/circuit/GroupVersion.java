package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.view.RelationVersion;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.function.Consumer;

/**
 * The rows of a grouped view at one version, read from the operator's own state: nothing is copied.
 * A look-up by the whole key goes by its hash; an order is made when first asked for, see {@link
 * GroupOrder}.
 */
final class GroupVersion implements RelationVersion {
  private final GroupAggregate groups;
  private final KeyedStore store;
  private final int[] key;
  private final int[] keyColumns;
  private final long version;
  private final long count;
  private final long membership;

  /**
   * @param key the columns rows are ordered by, or null for all
   * @param keyColumns for each group column which of the view's columns it is, or null if the key
   *     is not the group columns as they are
   */
  GroupVersion(
      GroupAggregate groups,
      int[] key,
      int[] keyColumns,
      long version,
      long count,
      long membership) {
    this.groups = groups;
    this.store = groups.store();
    this.keyColumns = keyColumns;
    this.version = version;
    this.count = count;
    this.membership = membership;
    if (key != null) {
      this.key = key;
    } else {
      this.key = new int[groups.rowLayout().columns()];
      Arrays.setAll(this.key, i -> i);
    }
  }

  @Override
  public RowLayout layout() {
    return groups.rowLayout();
  }

  @Override
  public int[] key() {
    return key.clone();
  }

  @Override
  public long count() {
    return count;
  }

  @Override
  public long heapBytes() {
    return 0;
  }

  /** Makes a row of a block at a time. Belongs to one thread. */
  private final class Reader {
    private final long[] words = new long[store.keyWords() + store.stateWords()];
    private final Page between = groups.isFinished() ? new Page(groups.groupLayout(), 1) : null;
    private final RowWriter writer = new RowWriter(layout(), layout().fixedBytes() + 32);

    /** Writes the row of a block at the start of the writer, if it had one then. */
    boolean read(int block) {
      return store.read(block, version, words) && make();
    }

    /** Writes the row of the words that were read. */
    boolean make() {
      if (!groups.isShown(words)) {
        return false;
      }
      writer.truncate(0);
      writer.begin();
      if (!groups.row(words, 0, words, store.keyWords(), between, writer)) {
        return false;
      }
      writer.finish();
      return true;
    }
  }

  private void refuseIfGone() {
    if (!store.valid(version)) {
      throw new IllegalStateException("a snapshot was read that nobody holds");
    }
  }

  @Override
  public void scan(Consumer<Page> sink) {
    Page page = new Page(layout(), 256);
    Page between = new Page(groups.groupLayout(), 1);
    long[] words = new long[store.keyWords() + store.stateWords()];
    int limit = store.blockLimit();
    for (int block = 0; block < limit; block++) {
      if (store.read(block, version, words) && groups.isShown(words)) {
        RowWriter writer = page.begin();
        if (groups.row(words, 0, words, store.keyWords(), between, writer)) {
          page.commit(1);
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
    GroupOrder known = groups.order();
    return keyColumns != null
        && (columns == key.length || known != null && known.membership() == membership);
  }

  @Override
  public void find(Object[] values, RowVisitor visitor) {
    if (keyColumns == null || values.length != key.length) {
      RelationVersion.super.find(values, visitor);
      return;
    }
    Object[] ordered = new Object[values.length];
    for (int g = 0; g < ordered.length; g++) {
      for (int k = 0; k < key.length; k++) {
        if (key[k] == keyColumns[g]) {
          ordered[g] = values[k];
        }
      }
    }
    long[] wanted = new long[store.keyWords()];
    if (!groups.keys().encodeBoxed(ordered, wanted)) {
      return;
    }
    Reader reader = new Reader();
    int block = store.lookup(store.hashOf(wanted, 0), wanted, version, reader.words);
    refuseIfGone();
    if (block != KeyedStore.NONE && reader.make()) {
      refuseIfGone();
      visitor.visit(reader.writer.bytes(), 0);
    }
  }

  @Override
  public void range(byte[] from, byte[] to, boolean descending, RowVisitor visitor) {
    GroupOrder order = order();
    int first = from == null ? 0 : order.from(from);
    int end = to == null ? order.blocks().length : order.from(to);
    Reader reader = new Reader();
    for (int i = 0; i < end - first; i++) {
      int block = order.blocks()[descending ? end - 1 - i : first + i];
      if (reader.read(block)) {
        refuseIfGone();
        if (!visitor.visit(reader.writer.bytes(), 0)) {
          return;
        }
      }
    }
    refuseIfGone();
  }

  private GroupOrder order() {
    GroupOrder known = groups.order();
    boolean keyIsGroups = keyColumns != null;
    if (keyIsGroups && known != null && known.membership() == membership) {
      return known;
    }
    GroupOrder made = sorted();
    if (keyIsGroups) {
      groups.order(made);
    }
    return made;
  }

  private record Place(byte[] key, int block) {}

  private GroupOrder sorted() {
    SortKeyCodec codec = new SortKeyCodec(layout(), key);
    SortKeyCodec.ByteSink sink = new SortKeyCodec.ByteSink();
    List<Place> places = new ArrayList<>();
    Reader reader = new Reader();
    int limit = store.blockLimit();
    for (int block = 0; block < limit; block++) {
      if (reader.read(block)) {
        sink.clear();
        codec.encode(reader.writer.bytes(), 0, sink);
        places.add(new Place(sink.toByteArray(), block));
      }
    }
    refuseIfGone();
    places.sort((a, b) -> Arrays.compareUnsigned(a.key, b.key));
    return new GroupOrder(
        membership,
        places.stream().map(Place::key).toArray(byte[][]::new),
        places.stream().mapToInt(Place::block).toArray());
  }
}
