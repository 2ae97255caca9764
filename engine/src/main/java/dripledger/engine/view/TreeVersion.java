package dripledger.engine.view;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.SortedBag;
import java.util.Arrays;
import java.util.function.Consumer;

/** Rows kept as an ordered tree of their own. Immutable: right with or without a pin. */
public final class TreeVersion implements RelationVersion {
  private final RowLayout layout;
  private final SortKeyCodec codec;
  private final int[] key;
  private final SortedBag rows;

  TreeVersion(RowLayout layout, SortKeyCodec codec, int[] key, SortedBag rows) {
    this.layout = layout;
    this.codec = codec;
    this.key = key;
    this.rows = rows;
  }

  @Override
  public RowLayout layout() {
    return layout;
  }

  @Override
  public int[] key() {
    return key.clone();
  }

  @Override
  public long count() {
    return rows.weight();
  }

  @Override
  public long heapBytes() {
    return rows.heapBytes();
  }

  @Override
  public void range(byte[] from, byte[] to, boolean descending, RowVisitor visitor) {
    SortedBag.Cursor cursor = rows.cursor();
    boolean there;
    if (!descending) {
      there = from == null ? cursor.first() : cursor.seek(from, 0, from.length);
    } else if (to == null) {
      there = cursor.last();
    } else {
      there = cursor.seek(to, 0, to.length) ? cursor.previous() : cursor.last();
    }
    while (there) {
      byte[] bound = descending ? from : to;
      if (bound != null) {
        int order =
            Arrays.compareUnsigned(
                cursor.bytes(), cursor.start(), cursor.end(), bound, 0, bound.length);
        if (descending ? order < 0 : order >= 0) {
          return;
        }
      }
      for (long n = cursor.weight(); n > 0; n--) {
        if (!visitor.visit(cursor.bytes(), cursor.keyEnd())) {
          return;
        }
      }
      there = descending ? cursor.previous() : cursor.next();
    }
  }

  @Override
  public void scan(Consumer<Page> sink) {
    Page page = new Page(layout);
    SortedBag.Cursor cursor = rows.cursor();
    for (boolean there = cursor.first(); there; there = cursor.next()) {
      page.append(cursor.bytes(), cursor.keyEnd(), cursor.end() - cursor.keyEnd(), cursor.weight());
      if (page.size() >= PIECE_ROWS) {
        sink.accept(page);
        page.clear();
      }
    }
    if (!page.isEmpty()) {
      sink.accept(page);
    }
  }

  /** Gives the changes that lead from an older version to this one. */
  public void changesSince(TreeVersion older, Consumer<Page> sink) {
    Page page = new Page(layout);
    rows.differenceFrom(
        older.rows,
        (bytes, from, keyEnd, to, weight) -> {
          page.append(bytes, keyEnd, to - keyEnd, weight);
          if (page.size() >= PIECE_ROWS) {
            sink.accept(page);
            page.clear();
          }
        });
    if (!page.isEmpty()) {
      sink.accept(page);
    }
  }

  /** This version with a delta applied, for statements of an open transaction. */
  public TreeVersion with(Page delta) {
    return new TreeVersion(
        layout, codec, key, new ViewStore(layout.schema(), key).applied(rows, delta));
  }
}
