package dripledger.engine.view;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.SortKeyCodec;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.TreeMap;
import java.util.function.Consumer;

/**
 * A table as an open transaction sees it: another version, with the rows of some keys changed. For
 * what a statement changes: small beside the table. Immutable.
 */
public final class OverlayVersion implements RelationVersion {
  private final RelationVersion base;
  private final TreeMap<byte[], Rows> changed;
  private final long count;

  /** The rows of a key: how many there were below, and which there are. */
  private record Rows(int before, List<byte[]> now) {}

  private OverlayVersion(RelationVersion base, TreeMap<byte[], Rows> changed) {
    this.base = base;
    this.changed = changed;
    long more = 0;
    for (Rows rows : changed.values()) {
      more += rows.now.size() - rows.before;
    }
    count = base.count() + more;
  }

  /** A version with a delta applied, whose rows need not have keys of their own. */
  public static OverlayVersion of(RelationVersion version, Page delta) {
    RelationVersion base = version instanceof OverlayVersion o ? o.base : version;
    TreeMap<byte[], Rows> changed = new TreeMap<>(Arrays::compareUnsigned);
    if (version instanceof OverlayVersion o) {
      changed.putAll(o.changed);
    }
    RowLayout layout = base.layout();
    SortKeyCodec codec = new SortKeyCodec(layout, base.key());
    SortKeyCodec.ByteSink sink = new SortKeyCodec.ByteSink();
    for (int i = 0; i < delta.size(); i++) {
      if (delta.weight(i) == 0) {
        continue;
      }
      byte[] row = Arrays.copyOfRange(delta.bytes(), delta.start(i), delta.end(i));
      sink.clear();
      codec.encode(row, 0, sink);
      byte[] key = sink.toByteArray();
      Rows known = changed.get(key);
      List<byte[]> rows = known != null ? new ArrayList<>(known.now) : rows(base, row);
      int before = known != null ? known.before : rows.size();
      for (long n = delta.weight(i); n > 0; n--) {
        rows.add(row);
      }
      for (long n = delta.weight(i); n < 0; n++) {
        remove(rows, row);
      }
      changed.put(key, new Rows(before, rows));
    }
    return new OverlayVersion(base, changed);
  }

  private static void remove(List<byte[]> rows, byte[] row) {
    for (int i = 0; i < rows.size(); i++) {
      if (Arrays.equals(rows.get(i), row)) {
        rows.remove(i);
        return;
      }
    }
    throw new IllegalStateException("a row is taken out that is not there");
  }

  /** The rows of a version with the key that a row has. */
  private static List<byte[]> rows(RelationVersion base, byte[] row) {
    List<byte[]> rows = new ArrayList<>();
    RowLayout layout = base.layout();
    base.find(
        keyValues(base, row),
        (bytes, at) -> rows.add(Arrays.copyOfRange(bytes, at, at + layout.length(bytes, at))));
    return rows;
  }

  private static Object[] keyValues(RelationVersion base, byte[] row) {
    int[] key = base.key();
    Object[] values = new Object[key.length];
    for (int k = 0; k < key.length; k++) {
      values[k] = BoxedRows.readColumn(base.layout(), row, 0, key[k]);
    }
    return values;
  }

  @Override
  public RowLayout layout() {
    return base.layout();
  }

  @Override
  public int[] key() {
    return base.key();
  }

  @Override
  public long count() {
    return count;
  }

  @Override
  public long heapBytes() {
    return base.heapBytes();
  }

  @Override
  public boolean finds(int columns) {
    return base.finds(columns);
  }

  @Override
  public boolean worthOrder() {
    return base.worthOrder();
  }

  @Override
  public void find(Object[] values, RowVisitor visitor) {
    if (values.length < key().length) {
      RelationVersion.super.find(values, visitor);
      return;
    }
    Rows rows = changed.get(encodeKey(values));
    if (rows == null) {
      base.find(values, visitor);
    } else {
      give(rows, visitor);
    }
  }

  private static boolean give(Rows rows, RowVisitor visitor) {
    for (byte[] row : rows.now) {
      if (!visitor.visit(row, 0)) {
        return false;
      }
    }
    return true;
  }

  @Override
  public void range(byte[] from, byte[] to, boolean descending, RowVisitor visitor) {
    TreeMap<byte[], Rows> left = new TreeMap<>(Arrays::compareUnsigned);
    changed.forEach(
        (key, rows) -> {
          if ((from == null || Arrays.compareUnsigned(key, from) >= 0)
              && (to == null || Arrays.compareUnsigned(key, to) < 0)) {
            left.put(key, rows);
          }
        });
    SortKeyCodec codec = new SortKeyCodec(layout(), key());
    SortKeyCodec.ByteSink sink = new SortKeyCodec.ByteSink();
    boolean[] more = {true};
    base.range(
        from,
        to,
        descending,
        (bytes, at) -> {
          sink.clear();
          codec.encode(bytes, at, sink);
          byte[] key = sink.toByteArray();
          // First what stands before it; then the row, unless its key has changed.
          while (more[0] && !left.isEmpty() && comesFirst(left, key, descending)) {
            more[0] = give(next(left, descending), visitor);
          }
          if (more[0] && !changed.containsKey(key)) {
            more[0] = visitor.visit(bytes, at);
          }
          return more[0];
        });
    while (more[0] && !left.isEmpty()) {
      more[0] = give(next(left, descending), visitor);
    }
  }

  private static boolean comesFirst(TreeMap<byte[], Rows> left, byte[] key, boolean descending) {
    byte[] next = descending ? left.lastKey() : left.firstKey();
    int order = Arrays.compareUnsigned(next, key);
    return descending ? order >= 0 : order <= 0;
  }

  private static Rows next(TreeMap<byte[], Rows> left, boolean descending) {
    return (descending ? left.pollLastEntry() : left.pollFirstEntry()).getValue();
  }

  @Override
  public void scan(Consumer<Page> sink) {
    SortKeyCodec codec = new SortKeyCodec(layout(), key());
    SortKeyCodec.ByteSink key = new SortKeyCodec.ByteSink();
    base.scan(
        page -> {
          for (int i = 0; i < page.size(); i++) {
            key.clear();
            codec.encode(page.bytes(), page.start(i), key);
            if (changed.containsKey(key.toByteArray())) {
              page.setWeight(i, 0);
            }
          }
          sink.accept(page);
        });
    Page page = new Page(layout());
    changed.values().forEach(rows -> rows.now.forEach(row -> page.append(row, 0, row.length, 1)));
    if (!page.isEmpty()) {
      sink.accept(page);
    }
  }
}
