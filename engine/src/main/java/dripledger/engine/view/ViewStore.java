package dripledger.engine.view;

import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKeyCodec;
import dripledger.engine.state.BagBatch;
import dripledger.engine.state.Durable;
import dripledger.engine.state.SortedBag;
import dripledger.engine.state.StateChunks;

/**
 * The rows of a view or table, kept in key order. {@link #apply} is called by one thread; the
 * versions it answers are for everybody.
 */
public final class ViewStore {
  private final RowLayout layout;
  private final SortKeyCodec codec;
  private final int[] key;
  private final BagBatch batch = new BagBatch();
  private final SortKeyCodec.ByteSink keyBytes = new SortKeyCodec.ByteSink();
  private final Durable durable =
      new StateChunks.DurableBag() {
        @Override
        protected SortedBag current() {
          return rows;
        }

        @Override
        protected void replace(SortedBag bag) {
          rows = bag;
        }
      };
  private SortedBag rows = SortedBag.EMPTY;

  /**
   * @param key the columns rows are ordered and looked up by, or null for all columns in order
   */
  public ViewStore(Schema schema, int[] key) {
    this.layout = new RowLayout(schema);
    this.key = key == null ? all(schema.size()) : key.clone();
    this.codec = new SortKeyCodec(layout, this.key);
  }

  private static int[] all(int n) {
    int[] columns = new int[n];
    for (int i = 0; i < n; i++) {
      columns[i] = i;
    }
    return columns;
  }

  /**
   * Takes in a delta.
   *
   * @throws IllegalStateException if it takes out a row that is not there; nothing has changed then
   */
  public void apply(Page delta) {
    rows = applied(rows, delta);
  }

  /** What {@code base} becomes under a delta; this store itself does not change. */
  SortedBag applied(SortedBag base, Page delta) {
    for (int i = 0; i < delta.size(); i++) {
      int start = delta.start(i);
      if (delta.weight(i) != 0 && codec.isPlain()) {
        int length = delta.end(i) - start;
        int keyLength = codec.fixedLength();
        int at = batch.begin(keyLength, length, delta.weight(i));
        codec.encodePlain(delta.bytes(), start, batch.bytes(), at);
        Bytes.copy(delta.bytes(), start, batch.bytes(), at + keyLength, length);
      } else if (delta.weight(i) != 0) {
        keyBytes.clear();
        codec.encode(delta.bytes(), start, keyBytes);
        batch.add(
            keyBytes.bytes(),
            0,
            keyBytes.size(),
            delta.bytes(),
            start,
            delta.end(i) - start,
            delta.weight(i));
      }
    }
    try {
      return base.apply(batch);
    } finally {
      batch.clear();
    }
  }

  /** The order-preserving bytes of a row's key. */
  public byte[] encodeKey(byte[] bytes, int row) {
    keyBytes.clear();
    codec.encode(bytes, row, keyBytes);
    return keyBytes.toByteArray();
  }

  /**
   * Fails if a row put in by the delta, which has been applied, is not the only one with its key.
   */
  public void refuseDuplicates(Page delta) {
    SortedBag.Cursor cursor = rows.cursor();
    for (int i = 0; i < delta.size(); i++) {
      if (delta.weight(i) <= 0) {
        continue;
      }
      byte[] encoded = encodeKey(delta.bytes(), delta.start(i));
      boolean found = cursor.seek(encoded, 0, encoded.length);
      boolean many =
          found
              && (cursor.weight() > 1
                  || cursor.next() && cursor.startsWith(encoded, 0, encoded.length));
      if (many) {
        throw new IllegalStateException("a primary key is there twice");
      }
    }
  }

  /** Receives a row by place; the array is never written again. */
  @FunctionalInterface
  public interface RowSink {
    void row(byte[] bytes, int at, int length);
  }

  /** Gives the first row with this key, as it stands now, if there is one. */
  public void find(byte[] encodedKey, RowSink sink) {
    SortedBag.Cursor cursor = rows.cursor();
    if (cursor.seek(encodedKey, 0, encodedKey.length)
        && cursor.startsWith(encodedKey, 0, encodedKey.length)) {
      sink.row(cursor.bytes(), cursor.keyEnd(), cursor.end() - cursor.keyEnd());
    }
  }

  /** The rows, for checkpoints. */
  public Durable durable() {
    return durable;
  }

  public TreeVersion version() {
    return new TreeVersion(layout, codec, key, rows);
  }

  /** Heap held, in bytes: the newest version and the scratch space for the next. */
  public long heapBytes() {
    return rows.heapBytes() + batch.heapBytes();
  }
}
