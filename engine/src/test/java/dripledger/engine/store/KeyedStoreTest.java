package dripledger.engine.store;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.SplittableRandom;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.atomic.AtomicLong;
import java.util.concurrent.atomic.AtomicReference;
import org.junit.jupiter.api.Tag;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

@Tag("memory-order")
class KeyedStoreTest {
  private static final int STATE = 2;

  private static int find(KeyedStore store, long key) {
    return store.find(KeyedStore.hash(key), new long[] {key}, 0);
  }

  private static void put(KeyedStore store, long key, long value) {
    int block = store.changeOrInsert(KeyedStore.hash(key), new long[] {key}, 0);
    long[] page = store.page(block);
    page[store.state(block)] = value;
    page[store.state(block) + 1] = -value;
  }

  private static Long get(KeyedStore store, long key, long version) {
    long[] into = new long[1 + STATE];
    int block = store.lookup(KeyedStore.hash(key), new long[] {key}, version, into);
    if (block == KeyedStore.NONE) {
      return null;
    }
    assertThat(into[2]).as("the words of one state belong together").isEqualTo(-into[1]);
    return into[1];
  }

  private static Map<Long, Long> scan(KeyedStore store, long version) {
    Map<Long, Long> rows = new HashMap<>();
    long[] into = new long[1 + STATE];
    for (int block = 0; block < store.blockLimit(); block++) {
      if (store.read(block, version, into)) {
        assertThat(rows.put(into[0], into[1])).as("a key is there once").isNull();
      }
    }
    return rows;
  }

  /** Weeks go by, and keys that nobody changes are still what they were. */
  @ParameterizedTest
  @ValueSource(longs = {1, (1L << 31) - 50, (1L << 32) - 50, (1L << 34) + 7})
  void theClockComesRound(long start) {
    SplittableRandom random = new SplittableRandom(start);
    Versions versions = Versions.startingAt(start);
    KeyedStore store = new KeyedStore(versions, 1, STATE, 4);
    Map<Long, Long> now = new HashMap<>();
    for (long key = 0; key < 200; key++) {
      put(store, key, key);
      now.put(key, key);
    }
    versions.publish();
    for (int round = 0; round < 600; round++) {
      Map<Long, Long> then = new HashMap<>(now);
      try (Versions.Pin pin = versions.pin()) {
        for (int change = random.nextInt(5); change > 0; change--) {
          long key = 150L + random.nextInt(100);
          int block = find(store, key);
          if (random.nextInt(3) == 0 && block != KeyedStore.NONE && store.isLive(block)) {
            store.remove(block);
            now.remove(key);
          } else {
            put(store, key, round);
            now.put(key, (long) round);
          }
        }
        versions.publish();
        assertThat(scan(store, pin.version())).as("round %d", round).isEqualTo(then);
      }
      versions.publish();
      assertThat(scan(store, versions.published())).as("round %d", round).isEqualTo(now);
      versions.skip(1L << 24 + random.nextInt(4));
    }
    assertThat(versions.published() - start).as("it came round").isGreaterThan(1L << 33);
    long saved = versions.published();
    store.saved();
    put(store, 3, -3);
    versions.publish();
    List<Long> changed = new ArrayList<>();
    store.changedSince(saved, versions.published(), words -> changed.add(words[0]));
    assertThat(changed).containsExactly(3L);
  }

  /** Pinned versions stay what they were while keys come, change, go and come back. */
  @ParameterizedTest
  @ValueSource(ints = {1, 4, 64})
  void everyPinnedVersionIsWhatAMapWasThen(int partitions) {
    for (long seed = 1; seed <= 8; seed++) {
      SplittableRandom random = new SplittableRandom(seed);
      Versions versions = new Versions();
      KeyedStore store = new KeyedStore(versions, 1, STATE, partitions);
      Map<Long, Long> now = new HashMap<>();
      List<Versions.Pin> pins = new ArrayList<>();
      Map<Long, Map<Long, Long>> then = new HashMap<>();
      int keys = 20 + random.nextInt(3000);
      for (int version = 0; version < 120; version++) {
        Map<Long, Long> before = new HashMap<>(now);
        for (int change = random.nextInt(400); change > 0; change--) {
          long key = random.nextInt(keys);
          if (random.nextInt(3) == 0) {
            int block = find(store, key);
            if (block != KeyedStore.NONE && store.isLive(block)) {
              store.remove(block);
              now.remove(key);
            }
          } else {
            long value = random.nextLong();
            put(store, key, value);
            now.put(key, value);
          }
        }
        assertThat(delta(store)).as("seed " + seed).isEqualTo(difference(before, now));
        versions.publish();
        assertThat(store.size()).isEqualTo(now.size());
        if (random.nextInt(4) == 0) {
          Versions.Pin pin = versions.pin();
          pins.add(pin);
          then.put(pin.version(), new HashMap<>(now));
        }
        if (pins.size() > 4) {
          pins.remove(random.nextInt(pins.size())).close();
        }
        for (Versions.Pin pin : pins) {
          Map<Long, Long> expected = then.get(pin.version());
          if (random.nextInt(6) == 0) {
            assertThat(scan(store, pin.version())).as("seed " + seed).isEqualTo(expected);
          }
          long key = random.nextInt(keys);
          assertThat(get(store, key, pin.version()))
              .as("seed " + seed)
              .isEqualTo(expected.get(key));
          assertThat(store.valid(pin.version())).isTrue();
        }
      }
      pins.forEach(Versions.Pin::close);
      versions.publish();
      assertThat(store.heldBackBytes()).as("nothing is kept for nobody").isZero();
      assertThat(scan(store, versions.published())).isEqualTo(now);
    }
  }

  @Test
  void readersThatHoldTooMuchAreEndedOldestFirst() {
    Versions versions = new Versions();
    KeyedStore store = new KeyedStore(versions, 1, 2, 64);
    versions.boundHeldBack(200_000);
    for (long key = 0; key < 1000; key++) {
      put(store, key, 0);
    }
    versions.publish();
    Versions.Pin oldest = versions.pin();
    Map<Long, Long> then = scan(store, oldest.version());
    for (long version = 1; version <= 200; version++) {
      for (long key = 0; key < 1000; key++) {
        put(store, key, version);
      }
      versions.publish();
      assertThat(versions.heldBackBytes()).isLessThan(300_000);
      if (version == 2) {
        assertThat(scan(store, oldest.version())).isEqualTo(then);
      }
    }
    assertThat(store.valid(oldest.version())).as("it was ended").isFalse();
    assertThat(versions.endedReads()).isPositive();
    oldest.close();
    Versions.Pin saving = versions.pinFirmly();
    Map<Long, Long> saved = scan(store, saving.version());
    for (long version = 0; version < 100; version++) {
      for (long key = 0; key < 1000; key++) {
        put(store, key, version);
      }
      versions.publish();
    }
    assertThat(versions.heldBackBytes()).as("it has to be kept").isGreaterThan(1_000_000);
    assertThat(scan(store, saving.version())).isEqualTo(saved);
    saving.close();
    versions.trim();
    assertThat(versions.heldBackBytes()).isZero();
  }

  private static Map<String, Long> delta(KeyedStore store) {
    Map<String, Long> delta = new HashMap<>();
    store.changes(
        (block, wasLive, isLive, record, old) -> {
          long key = store.page(block)[store.header(block) + 1];
          if (wasLive) {
            delta.merge(key + "=" + record[old], -1L, Long::sum);
          }
          if (isLive) {
            delta.merge(key + "=" + store.page(block)[store.state(block)], 1L, Long::sum);
          }
        });
    delta.values().removeIf(n -> n == 0);
    return delta;
  }

  private static Map<String, Long> difference(Map<Long, Long> before, Map<Long, Long> now) {
    Map<String, Long> delta = new HashMap<>();
    before.forEach((k, v) -> delta.merge(k + "=" + v, -1L, Long::sum));
    now.forEach((k, v) -> delta.merge(k + "=" + v, 1L, Long::sum));
    delta.values().removeIf(n -> n == 0);
    return delta;
  }

  @Test
  void blocksOfKeysThatWentAreUsedAgain() {
    Versions versions = new Versions();
    KeyedStore store = new KeyedStore(versions, 1, STATE, 64);
    AtomicLong released = new AtomicLong();
    store.onRelease((page, at) -> released.addAndGet(page[at]));
    for (long round = 0; round < 200; round++) {
      for (long key = 0; key < 1000; key++) {
        put(store, round * 1000 + key, key);
      }
      versions.publish();
      for (long key = 0; key < 1000; key++) {
        long k = round * 1000 + key;
        store.remove(find(store, k));
      }
      versions.publish();
    }
    assertThat(store.size()).isZero();
    assertThat(store.blockLimit()).isLessThanOrEqualTo(2000);
    assertThat(store.heapBytes()).isLessThan(600_000);
    assertThat(released.get()).isEqualTo(199_999L * 200_000 / 2);
  }

  @Test
  void aReadWithoutAPinIsRightOrRefused() {
    Versions versions = new Versions();
    KeyedStore store = new KeyedStore(versions, 1, STATE, 1);
    put(store, 7, 70);
    versions.publish();
    long old = versions.published();
    assertThat(get(store, 7, old)).isEqualTo(70);
    assertThat(store.valid(old)).isTrue();
    put(store, 7, 71);
    assertThat(get(store, 7, old)).as("what is being written is not seen").isEqualTo(70);
    versions.publish();
    get(store, 7, old);
    assertThat(store.valid(old)).as("nobody held it").isFalse();
    assertThat(get(store, 7, versions.published())).isEqualTo(71);
  }

  @Test
  void whatOneLargeVersionNeededIsGivenBack() {
    Versions versions = new Versions();
    KeyedStore store = new KeyedStore(versions, 1, STATE, 64);
    for (long key = 0; key < 200_000; key++) {
      put(store, key, key);
    }
    long most = store.heapBytes();
    for (int version = 0; version < 200; version++) {
      versions.publish();
      put(store, version, -1);
    }
    versions.publish();
    assertThat(store.heapBytes()).isLessThan(most - 200_000L * 8 * (2 + STATE) * 9 / 10);
    assertThat(scan(store, versions.published())).hasSize(200_000).containsEntry(7L, -1L);
  }

  @Test
  void keysOfSeveralWordsAreCompared() {
    Versions versions = new Versions();
    KeyedStore store = new KeyedStore(versions, 3, 1, 4);
    long[] key = new long[3];
    for (int i = 0; i < 5000; i++) {
      key[0] = i % 17;
      key[1] = i / 17;
      key[2] = -i;
      int block = store.changeOrInsert(KeyedStore.hash(key, 0, 3), key, 0);
      store.page(block)[store.state(block)] = i;
    }
    versions.publish();
    long[] into = new long[4];
    for (int i = 0; i < 5000; i++) {
      key[0] = i % 17;
      key[1] = i / 17;
      key[2] = -i;
      long version = versions.published();
      assertThat(store.lookup(KeyedStore.hash(key, 0, 3), key, version, into)).isNotNegative();
      assertThat(into[3]).isEqualTo(i);
      key[2] = 1L;
      assertThat(store.lookup(KeyedStore.hash(key, 0, 3), key, version, into))
          .isEqualTo(KeyedStore.NONE);
    }
  }

  /**
   * Amounts move between keys, which come and go, while readers add all of them up: by scans of a
   * pinned version, by look-ups of every key, and by single look-ups without a pin.
   */
  @Test
  void readersSeeTheSameTotalWhateverMoves() throws Exception {
    long seconds = Long.getLong("drip.stress.seconds", 8);
    int keys = 3000;
    long total = 1_000_000;
    Versions versions = new Versions();
    KeyedStore store = new KeyedStore(versions, 1, STATE, 64);
    put(store, 0, total);
    versions.publish();
    AtomicBoolean running = new AtomicBoolean(true);
    AtomicReference<Throwable> wrong = new AtomicReference<>();
    AtomicLong reads = new AtomicLong();
    List<Thread> readers = new ArrayList<>();
    for (int r = 0; r < 3; r++) {
      int kind = r;
      Thread reader =
          new Thread(
              () -> {
                try {
                  SplittableRandom random = new SplittableRandom(kind);
                  while (running.get()) {
                    check(versions, store, keys, total, kind, random);
                    reads.incrementAndGet();
                  }
                } catch (Throwable e) {
                  wrong.compareAndSet(null, e);
                }
              });
      reader.start();
      readers.add(reader);
    }
    SplittableRandom random = new SplittableRandom(99);
    long end = System.nanoTime() + seconds * 1_000_000_000L;
    long written = 0;
    while (System.nanoTime() < end && wrong.get() == null) {
      for (int i = 1 + random.nextInt(500); i > 0; i--) {
        move(store, random.nextInt(keys), random.nextInt(keys), random.nextInt(1000));
      }
      versions.publish();
      written++;
    }
    running.set(false);
    for (Thread reader : readers) {
      reader.join();
    }
    if (wrong.get() != null) {
      throw new AssertionError("after " + written + " versions", wrong.get());
    }
    assertThat(written).as("the writer was alive to the end").isGreaterThan(100 * seconds);
    assertThat(reads.get()).isGreaterThan(100);
  }

  private static long amount(KeyedStore store, long key) {
    int block = find(store, key);
    return block == KeyedStore.NONE || !store.isLive(block)
        ? 0
        : store.page(block)[store.state(block)];
  }

  private static void set(KeyedStore store, long key, long amount) {
    if (amount != 0) {
      put(store, key, amount);
      return;
    }
    int block = find(store, key);
    if (block != KeyedStore.NONE && store.isLive(block)) {
      store.remove(block);
    }
  }

  private static void move(KeyedStore store, long from, long to, long most) {
    long there = amount(store, from);
    long moved = Math.min(most, there);
    set(store, from, there - moved);
    set(store, to, amount(store, to) + moved);
  }

  private static void check(
      Versions versions,
      KeyedStore store,
      int keys,
      long total,
      int kind,
      SplittableRandom random) {
    if (kind == 2) {
      long version = versions.published();
      long[] into = new long[1 + STATE];
      long key = random.nextInt(keys);
      int block = store.lookup(KeyedStore.hash(key), new long[] {key}, version, into);
      if (store.valid(version) && block != KeyedStore.NONE && into[1] != -into[2]) {
        throw new AssertionError("a state of two versions: " + into[1] + " " + into[2]);
      }
      return;
    }
    try (Versions.Pin pin = versions.pin()) {
      long sum = 0;
      if (kind == 0) {
        long[] into = new long[1 + STATE];
        for (int block = 0; block < store.blockLimit(); block++) {
          sum += store.read(block, pin.version(), into) ? into[1] : 0;
        }
      } else {
        for (long key = 0; key < keys; key++) {
          Long amount = get(store, key, pin.version());
          sum += amount == null ? 0 : amount;
        }
      }
      if (sum != total || !store.valid(pin.version())) {
        throw new AssertionError(kind + " at version " + pin.version() + ": " + sum);
      }
    }
  }
}
