package dripledger.engine.circuit;

import dripledger.engine.expr.Expr;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;

/**
 * A side whose rows are kept elsewhere, as those of a table or of a view: they are looked up where
 * they are, and not kept here. What changes there must come before what the other side changes, and
 * be there by then: d(L ⋈ T) = L ⋈ dT + dL ⋈ (T + dT). If the rows of L are looked up too, it is as
 * they were before they changed.
 */
abstract class ElsewhereSide extends JoinSide {
  /** The version of rows that are written: what they are now, while nobody changes them. */
  static final long NOW = -1;

  private static final long NEVER = -2;

  final int[] picked; // which column of the relation each one is
  KeyedRows table;
  KeyedStore store;
  BlockRows asTheyAre; // how rows are read of their blocks; null: they are made
  BlockReader maker; // of rows that are made
  long[] block = new long[0]; // the words of one
  private final boolean before; // whether rows are read as they were before
  private long from = NEVER; // the version before
  private long version = NEVER;

  /**
   * @param plan the relation, or columns of it
   * @param before whether its rows are looked up as they were before they changed
   */
  ElsewhereSide(Input input, PlanNode plan, boolean before) {
    super(input);
    this.before = before;
    picked = all(layout.columns());
    if (plan instanceof PlanNode.Transform t) {
      for (int c = 0; c < picked.length; c++) {
        picked[c] = ((Expr.Column) t.program().outputs().get(c)).index();
      }
    }
  }

  /**
   * Says where rows are looked up from here on.
   *
   * @param kept the rows; null while they are not known
   * @param at a version that is pinned, or {@link #NOW}
   */
  void table(KeyedRows kept, long at) {
    table = kept;
    if (kept != null) {
      from = version == NEVER ? at : version;
      version = at;
      store = kept.stored().store();
      block = new long[store.keyWords() + store.stateWords()];
      asTheyAre = kept.asTheyAre();
      maker = asTheyAre == null ? new BlockReader(kept.stored(), kept.finish(), at) : null;
    }
  }

  /** Makes ready to be looked up in. */
  void ready() {}

  /** Takes note of what has changed in the relation, once the join has taken it in. */
  void changed(Page delta) {}

  /** The version that is read. */
  final long at() {
    if (before) {
      return from == NOW ? store.newest() - 1 : from;
    }
    return version == NOW ? store.newest() : version;
  }

  /** Whether rows are read as they are in the epoch that is stepped, or were before it. */
  final boolean isLive() {
    return (before ? from : version) == NOW;
  }

  final void refuseIfGone() {
    if (!isLive()) {
      BlockReader.refuseIfGone(store, at());
    }
  }

  /** Makes the row of the words at hand; answers whether there is one. */
  final boolean make(RowWriter out) {
    System.arraycopy(block, 0, maker.words, 0, block.length);
    return maker.make(out);
  }

  /** Sets columns of the row begun to those of one that was made. */
  final void copy(Page made, int row, RowWriter out, int firstColumn) {
    for (int c = 0; c < picked.length; c++) {
      out.copy(firstColumn + c, made.layout(), made.bytes(), made.start(row), picked[c]);
    }
  }

  /** As {@link #copy}, into a delta by columns. */
  final void copy(Page made, int row, int[] which, ColumnDelta into, int at, int firstColumn) {
    int start = made.start(row);
    for (int c : which) {
      into.columns[firstColumn + c][at] = made.layout().slot(made.bytes(), start, picked[c]);
      if (made.layout().isNull(made.bytes(), start, picked[c])) {
        into.nulls[at] |= 1L << firstColumn + c;
      }
    }
  }

  // ---- changes of the relation: it has them already

  @Override
  void rowsAhead(Page delta, int from, int count) {}

  @Override
  boolean canReplace(int i, byte[] bytes, int row, int newRow) {
    return true;
  }

  @Override
  void add(int i, byte[] bytes, int row, long weight, long matches) {}

  @Override
  void replace(int i, byte[] bytes, int row, int newRow, long matches) {}

  // ---- nothing is kept

  @Override
  long weight(int number) {
    return 1;
  }

  @Override
  long met(int number) {
    throw new IllegalStateException("rows kept elsewhere do not know what they meet");
  }

  @Override
  long meet(int number, long more) {
    throw new IllegalStateException("rows kept elsewhere do not know what they meet");
  }

  @Override
  boolean isThere(int number) {
    return false;
  }

  @Override
  int limit() {
    return 0;
  }

  @Override
  void join(Versions graph) {}

  @Override
  void close() {}

  @Override
  Durable durable() {
    return null;
  }

  @Override
  long heapBytes() {
    return 0;
  }

  @Override
  long size() {
    return 0;
  }
}
