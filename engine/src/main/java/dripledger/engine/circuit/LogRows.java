package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.state.Durable;
import dripledger.engine.state.SortedBag;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.Versions;
import dripledger.engine.view.RelationVersion;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.function.Consumer;

/**
 * The rows of a relation that only grows, in the order they came: bytes written once, one row after
 * the other, in chunks of 1 MiB. A row is addressed by its place in units of four bytes. A version
 * is a length, and stays right with or without a pin.
 */
final class LogRows implements KeptRelation {
  private static final int CHUNK = 1 << 20;
  private static final int UNIT = 2; // a row starts at a multiple of four bytes
  private static final int UNITS_SHIFT = 20 - UNIT;
  private static final int UNITS_MASK = (1 << UNITS_SHIFT) - 1;

  private final RowLayout layout;
  private final int[] key;
  private List<Order> orders; // its own first
  private byte[][] chunks = {new byte[4096]}; // the array is replaced when an element is
  private int[] ends = {0};
  private long rows;
  private Place saved = new Place(0, 0);
  private List<Version> newest = List.of();

  /** How far the log goes. */
  private record Place(long rows, int address) {}

  /**
   * @param key the columns rows are ordered and looked up by, or null for all
   */
  LogRows(Schema schema, int[] key) {
    layout = new RowLayout(schema);
    this.key = key == null ? new int[schema.size()] : key;
    if (key == null) {
      Arrays.setAll(this.key, i -> i);
    }
    orders = List.of(new Order(this.key, new OrderedIndex(layout, this.key)));
  }

  /** Columns that rows are found by. */
  private record Order(int[] key, OrderedIndex index) {}

  private Order declared(int[] columns) {
    Order order = new Order(columns, new OrderedIndex(layout, columns));
    order.index.declared(true);
    return order;
  }

  @Override
  public long count() {
    return rows;
  }

  @Override
  public void orders(List<int[]> columns) {
    List<Order> now = new ArrayList<>(orders.subList(0, 1));
    for (int[] each : columns) {
      Order known =
          orders.stream()
              .skip(1)
              .filter(o -> Arrays.equals(o.key, each))
              .findFirst()
              .orElseGet(() -> declared(each));
      now.add(known);
    }
    orders = List.copyOf(now);
  }

  // ---- writing

  @Override
  public void apply(Page delta) {
    for (int i = 0; i < delta.size(); i++) {
      if (delta.weight(i) < 0) {
        throw new IllegalStateException("a row was taken out of what only grows");
      }
      for (long n = delta.weight(i); n > 0; n--) {
        append(delta.bytes(), delta.start(i), delta.end(i) - delta.start(i));
      }
    }
  }

  /** Appends a row; answers its address. */
  int append(byte[] bytes, int start, int length) {
    int size = length + 3 & ~3;
    int last = chunks.length - 1;
    if (ends[last] + size > chunks[last].length) {
      last = makeRoom(last, size);
    }
    int at = ends[last];
    System.arraycopy(bytes, start, chunks[last], at, length);
    ends[last] = at + size;
    rows++;
    for (int i = 0; i < orders.size(); i++) {
      OrderedIndex index = orders.get(i).index;
      if (index.needsChanges()) {
        index.changed(chunks[last], at, last << UNITS_SHIFT | at >>> UNIT, 1);
      }
    }
    return last << UNITS_SHIFT | at >>> UNIT;
  }

  /** The array a row is in, as it is now. */
  byte[] bytes(int address) {
    return chunks[address >>> UNITS_SHIFT];
  }

  /** Where in that array it begins. */
  int offset(int address) {
    return (address & UNITS_MASK) << UNIT;
  }

  /** Gives all rows as they are now, in the order they came: their bytes, place and address. */
  void all(OrderedIndex.KeySink sink) {
    for (int c = 0; c < chunks.length; c++) {
      for (int at = 0; at < ends[c]; at += layout.length(chunks[c], at) + 3 & ~3) {
        sink.key(chunks[c], at, c << UNITS_SHIFT | at >>> UNIT);
      }
    }
  }

  /** A larger last chunk, or another one; readers keep what they have. */
  private int makeRoom(int last, int size) {
    if (ends[last] + size <= CHUNK) {
      byte[][] replaced = chunks.clone();
      int wanted = Math.max(chunks[last].length * 2, ends[last] + size);
      replaced[last] = Arrays.copyOf(chunks[last], Math.min(CHUNK, wanted));
      chunks = replaced;
      return last;
    }
    if (chunks.length == 1 << 32 - UNITS_SHIFT - 1) {
      throw new IllegalStateException("more than 8 GiB of rows");
    }
    byte[][] more = Arrays.copyOf(chunks, chunks.length + 1);
    more[chunks.length] = new byte[CHUNK];
    ends = Arrays.copyOf(ends, more.length);
    chunks = more;
    return more.length - 1;
  }

  private Place end() {
    int last = chunks.length - 1;
    return new Place(rows, last << UNITS_SHIFT | ends[last] >>> UNIT);
  }

  @Override
  public void join(Versions graph) {
    // what was written stays as it is, whoever reads it
  }

  @Override
  public void leave() {
    // nobody is told of it
  }

  @Override
  public long heapBytes() {
    long bytes = 0;
    for (Order order : orders) {
      bytes += order.index.heapBytes();
    }
    for (byte[] chunk : chunks) {
      bytes += chunk.length + 16;
    }
    return bytes;
  }

  // ---- checkpoints

  @Override
  public String form() {
    return "log";
  }

  @Override
  public Durable durable() {
    return new Durable() {
      @Override
      public Capture capture(boolean whole) {
        Place from = whole ? new Place(0, 0) : saved;
        Place to = end();
        if (to.rows == from.rows) {
          return null;
        }
        saved = to;
        Version now = new Version(0, to.rows, orders.get(0), null, List.of());
        return sink -> {
          StateChunks.Writer writer = StateChunks.log(sink);
          now.each(from.address, writer::row);
          writer.close();
        };
      }

      @Override
      public void restore(Chunks chunks) {
        StateChunks.readLog(chunks, LogRows.this::append);
        LogRows.this.saved = end();
      }
    };
  }

  @Override
  public void restored() {
    // it was counted as it came
  }

  // ---- reading

  @Override
  public RelationVersion version(long version) {
    List<Version> now = new ArrayList<>();
    boolean same = newest.size() == orders.size();
    for (int i = orders.size() - 1; i >= 0; i--) { // its own last: it is given the others
      Order order = orders.get(i);
      SortedBag tree = order.index.at(version, rows);
      List<RelationVersion> others = i == 0 ? List.copyOf(now) : List.of();
      now.add(new Version(version, rows, order, tree, others));
    }
    for (int i = 0; same && i < now.size(); i++) {
      same = now.get(i).isSame(newest.get(i));
    }
    if (!same) {
      newest = now;
    }
    return newest.get(newest.size() - 1);
  }

  private interface RowSink {
    void row(byte[] bytes, int at, int length);
  }

  /** The log up to a length. */
  private final class Version implements RelationVersion {
    private final byte[][] own = chunks;
    private final int[] ownEnds = ends.clone();
    private final long version; // since which it has been so
    private final long count;
    private final Order order;
    private final SortedBag tree;
    private final List<RelationVersion> others;

    Version(long version, long count, Order order, SortedBag tree, List<RelationVersion> others) {
      this.version = version;
      this.count = count;
      this.order = order;
      this.tree = tree;
      this.others = others;
    }

    boolean isSame(Version other) {
      return count == other.count && order == other.order && tree == other.tree;
    }

    @Override
    public List<RelationVersion> others() {
      return others;
    }

    /** Gives the rows from an address on. */
    void each(int from, RowSink sink) {
      int at = (from & UNITS_MASK) << UNIT;
      for (int c = from >>> UNITS_SHIFT; c < own.length; c++) {
        while (at < ownEnds[c]) {
          int length = layout.length(own[c], at);
          sink.row(own[c], at, length);
          at += length + 3 & ~3;
        }
        at = 0;
      }
    }

    @Override
    public RowLayout layout() {
      return layout;
    }

    @Override
    public int[] key() {
      return order.key.clone();
    }

    @Override
    public long count() {
      return count;
    }

    @Override
    public long heapBytes() {
      return LogRows.this.heapBytes();
    }

    @Override
    public boolean finds(int columns) {
      return order.index.isMade(tree, count);
    }

    @Override
    public boolean worthOrder() {
      return order.index.isDeclared()
          || order.index.isMade(tree, count)
          || order.index.wasAskedFor();
    }

    @Override
    public void scan(Consumer<Page> sink) {
      Page page = new Page(layout, 256);
      each(
          0,
          (bytes, at, length) -> {
            page.append(bytes, at, length, 1);
            if (page.size() >= PIECE_ROWS) {
              sink.accept(page);
              page.clear();
            }
          });
      if (!page.isEmpty()) {
        sink.accept(page);
      }
    }

    @Override
    public void range(byte[] from, byte[] to, boolean descending, RowVisitor visitor) {
      OrderedIndex.range(
          order.index.tree(tree, version, count, this::giveKeys),
          from,
          to,
          descending,
          address -> visitor.visit(own[address >>> UNITS_SHIFT], (address & UNITS_MASK) << UNIT));
    }

    private void giveKeys(OrderedIndex.KeySink sink) {
      for (int c = 0; c < own.length; c++) {
        for (int at = 0; at < ownEnds[c]; ) {
          sink.key(own[c], at, c << UNITS_SHIFT | at >>> UNIT);
          at += layout.length(own[c], at) + 3 & ~3;
        }
      }
    }
  }
}
