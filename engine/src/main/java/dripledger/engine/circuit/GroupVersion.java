package dripledger.engine.circuit;

import dripledger.engine.expr.RowProgram;
import dripledger.engine.row.ColumnType;
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
  private final Finish finish;
  private final long version;
  private final long count;
  private final long membership;

  /** The relation as the version shows it that was published last; by the writer. */
  GroupVersion(GroupAggregate groups, Finish finish, long version, long count) {
    this.groups = groups;
    this.store = groups.store();
    this.finish = finish;
    this.version = version;
    this.count = count;
    this.membership = groups.membership();
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
    return 0;
  }

  /** Makes a row of a block at a time. Belongs to one thread. */
  private final class Reader {
    private final long[] words = new long[store.keyWords() + store.stateWords()];
    private final RowProgram program = finish.program();
    private final Page between = program == null ? null : new Page(groups.groupLayout(), 1);
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
      if (!groups.isShown(words)) {
        return false;
      }
      if (program == null) {
        groups.row(words, 0, words, store.keyWords(), writer);
        return true;
      }
      between.clear();
      groups.row(words, 0, words, store.keyWords(), between.begin());
      between.commit(1);
      try {
        return program.run(between.bytes(), between.start(0), writer);
      } catch (RuntimeException e) {
        return false; // it is among the rejects
      }
    }

    byte[] bytes() {
      return own.bytes();
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
    Reader reader = new Reader();
    int limit = store.blockLimit();
    for (int block = 0; block < limit; block++) {
      if (store.read(block, version, reader.words)) {
        if (reader.make(page.begin())) {
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
    GroupOrder known = finish.order();
    return finish.groupColumns() != null
        && (columns == finish.key().length || known != null && known.membership() == membership);
  }

  @Override
  public void find(Object[] values, RowVisitor visitor) {
    int[] key = finish.key();
    int[] keyColumns = finish.groupColumns();
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
      visitor.visit(reader.bytes(), 0);
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
        if (!visitor.visit(reader.bytes(), 0)) {
          return;
        }
      }
    }
    refuseIfGone();
  }

  private GroupOrder order() {
    GroupOrder known = finish.order();
    if (known != null && known.membership() == membership) {
      return known;
    }
    boolean stays = finish.groupColumns() != null && keysHaveTheirTypes();
    GroupOrder made = stays ? sortedGroups() : sortedRows();
    if (stays) {
      finish.order(made);
    }
    return made;
  }

  private boolean keysHaveTheirTypes() {
    for (int g = 0; g < finish.groupColumns().length; g++) {
      ColumnType group = groups.keys().layout().schema().type(g);
      if (!layout().schema().type(finish.groupColumns()[g]).equals(group)) {
        return false;
      }
    }
    return true;
  }

  private record Place(byte[] key, int block) {}

  /** All groups by their key, also those that have no row now: one may come to them. */
  private GroupOrder sortedGroups() {
    int[] columns = new int[finish.key().length];
    for (int k = 0; k < columns.length; k++) {
      for (int g = 0; g < columns.length; g++) {
        if (finish.groupColumns()[g] == finish.key()[k]) {
          columns[k] = g;
        }
      }
    }
    SortKeyCodec codec = new SortKeyCodec(groups.keys().layout(), columns);
    long[] words = new long[store.keyWords() + store.stateWords()];
    return sorted(
        (block, sink) -> {
          if (!store.read(block, version, words)) {
            return false;
          }
          codec.encode(groups.keys().row(words, 0), 0, sink);
          return true;
        });
  }

  private GroupOrder sortedRows() {
    SortKeyCodec codec = new SortKeyCodec(layout(), finish.key());
    Reader reader = new Reader();
    return sorted(
        (block, sink) -> {
          if (!reader.read(block)) {
            return false;
          }
          codec.encode(reader.bytes(), 0, sink);
          return true;
        });
  }

  /** Writes the key of a block; answers whether it has one. */
  private interface KeyOf {
    boolean write(int block, SortKeyCodec.ByteSink sink);
  }

  private GroupOrder sorted(KeyOf keyOf) {
    SortKeyCodec.ByteSink sink = new SortKeyCodec.ByteSink();
    List<Place> places = new ArrayList<>();
    int limit = store.blockLimit();
    for (int block = 0; block < limit; block++) {
      sink.clear();
      if (keyOf.write(block, sink)) {
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
