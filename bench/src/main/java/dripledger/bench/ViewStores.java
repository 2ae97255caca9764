package dripledger.bench;

import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.ViewStore;
import java.util.SplittableRandom;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.atomic.AtomicReference;
import org.pcollections.TreePMap;

/**
 * Two forms of the published view's store, updated in epochs of random changes: our tree with flat
 * leaves, and a persistent balanced tree with an object a row. Then look-ups while it is updated.
 */
final class ViewStores {
  private static final int EPOCH_ROWS = 65_536;
  private static final int EPOCHS = 40;
  private static final Schema SCHEMA =
      Schema.of(
          new Column("k", ColumnType.of(Kind.BIGINT).notNull()),
          new Column("n", ColumnType.of(Kind.BIGINT).notNull()),
          new Column("s", ColumnType.of(Kind.BIGINT).notNull()));

  private final int keys;
  private final long[] counts;
  private long sink;

  ViewStores(int keys) {
    this.keys = keys;
    this.counts = new long[keys];
  }

  private static void add(Page page, long key, long count, long weight) {
    RowWriter writer = page.begin();
    writer.setLong(0, key);
    writer.setLong(1, count);
    writer.setLong(2, count * 100);
    page.commit(weight);
  }

  private void fillEpoch(Page page, SplittableRandom random) {
    page.clear();
    for (int i = 0; i < EPOCH_ROWS; i++) {
      int key = random.nextInt(keys);
      add(page, key, counts[key], -1);
      add(page, key, ++counts[key], 1);
    }
  }

  void run() {
    System.out.println();
    System.out.println(
        "view store: " + EPOCH_ROWS + " random updates an epoch, each version kept by the reader");
    flat();
    objects();
    lookups();
    System.out.println("  (checksum " + sink + ")");
  }

  private ViewStore filled() {
    ViewStore store = new ViewStore(SCHEMA, new int[] {0});
    Page page = new Page(new RowLayout(SCHEMA), EPOCH_ROWS);
    for (int k = 0; k < keys; k++) {
      add(page, k, counts[k] = 1, 1);
      if (page.size() == EPOCH_ROWS) {
        store.apply(page);
        page.clear();
      }
    }
    store.apply(page);
    return store;
  }

  private void flat() {
    long before = Heap.used();
    ViewStore store = filled();
    double bytes = (double) (Heap.used() - before) / keys;
    SplittableRandom random = new SplittableRandom(2);
    Page page = new Page(new RowLayout(SCHEMA), EPOCH_ROWS * 2);
    long nanos = 0;
    try (Heap.Pauses pauses = new Heap.Pauses()) {
      for (int epoch = 0; epoch < EPOCHS; epoch++) {
        fillEpoch(page, random);
        long began = System.nanoTime();
        store.apply(page);
        nanos += System.nanoTime() - began;
      }
      sink += store.version().count();
      print("tree with flat leaves", nanos, bytes, pauses);
    }
  }

  private record ObjectRow(long count, long sum) {}

  private void objects() {
    java.util.Arrays.fill(counts, 1);
    long before = Heap.used();
    TreePMap<Long, ObjectRow> map = TreePMap.empty();
    for (int k = 0; k < keys; k++) {
      map = map.plus((long) k, new ObjectRow(1, 100));
    }
    double bytes = (double) (Heap.used() - before) / keys;
    SplittableRandom random = new SplittableRandom(2);
    long nanos = 0;
    try (Heap.Pauses pauses = new Heap.Pauses()) {
      for (int epoch = 0; epoch < EPOCHS / 8; epoch++) {
        long began = System.nanoTime();
        for (int i = 0; i < EPOCH_ROWS; i++) {
          int key = random.nextInt(keys);
          long n = ++counts[key];
          map = map.plus((long) key, new ObjectRow(n, n * 100));
        }
        nanos += System.nanoTime() - began;
      }
      sink += map.size();
      print("persistent tree of objects", nanos * 8, bytes, pauses);
    }
  }

  private static void print(String name, long nanos, double bytes, Heap.Pauses pauses) {
    System.out.printf(
        "  %-28s %6.2f M updates/s, %6.1f bytes a row, %d pauses, longest %d ms%n",
        name,
        (double) EPOCHS * EPOCH_ROWS / nanos * 1e3,
        bytes,
        pauses.count(),
        pauses.longestMillis());
  }

  /** Look-ups by key on one thread, alone and while another thread updates the store. */
  private void lookups() {
    ViewStore store = filled();
    AtomicReference<RelationVersion> published = new AtomicReference<>(store.version());
    double alone = lookupRate(published);
    AtomicBoolean writing = new AtomicBoolean(true);
    long[] epochs = new long[1];
    Thread writer =
        new Thread(
            () -> {
              SplittableRandom random = new SplittableRandom(3);
              Page page = new Page(new RowLayout(SCHEMA), EPOCH_ROWS * 2);
              while (writing.get()) {
                fillEpoch(page, random);
                store.apply(page);
                published.set(store.version());
                epochs[0]++;
              }
            });
    writer.start();
    double busy = lookupRate(published);
    writing.set(false);
    try {
      writer.join();
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
    System.out.printf(
        "  look-ups by key, one thread  %6.2f M/s alone, %.2f M/s while updated (%d epochs meanwhile)%n",
        alone / 1e6, busy / 1e6, epochs[0]);
  }

  private double lookupRate(AtomicReference<RelationVersion> published) {
    SplittableRandom random = new SplittableRandom(4);
    byte[] key = new byte[8];
    long end = System.nanoTime() + 3_000_000_000L;
    long began = System.nanoTime();
    long found = 0;
    long asked = 0;
    while (System.nanoTime() < end) {
      for (int i = 0; i < 1000; i++) {
        dripledger.engine.row.Bytes.putLongBigEndian(key, 0, random.nextInt(keys) ^ Long.MIN_VALUE);
        long[] row = new long[1];
        published
            .get()
            .prefix(
                key,
                false,
                (bytes, at) -> {
                  row[0] = bytes[at + 1];
                  return false;
                });
        found += row[0];
        asked++;
      }
    }
    sink += found;
    return asked / ((System.nanoTime() - began) / 1e9);
  }
}
