package dripledger.engine.circuit;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.Versions;
import dripledger.engine.view.OverlayVersion;
import dripledger.engine.view.RelationVersion;
import java.lang.ref.WeakReference;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collections;
import java.util.Comparator;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.TreeMap;
import java.util.stream.Collectors;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

class KeptRowsTest {
  private static final Schema TEXTS =
      Schema.of(
          new Column("id", ColumnType.of(Kind.BIGINT)),
          new Column("area", ColumnType.varchar(-1)),
          new Column("n", ColumnType.of(Kind.INTEGER).notNull()));

  /** Rows of fixed size, which are in their blocks. */
  private static final Schema NUMBERS =
      Schema.of(
          new Column("id", ColumnType.of(Kind.BIGINT)),
          new Column("area", ColumnType.of(Kind.BIGINT)),
          new Column("n", ColumnType.of(Kind.INTEGER).notNull()));

  private static final int[] ID = {0};

  private Schema schema = TEXTS;
  private RowLayout layout = new RowLayout(schema);

  private final Versions versions = Versions.ofGraph();

  private static void add(Page page, long weight, Object... row) {
    BoxedRows.write(page.begin(), row);
    page.commit(weight);
  }

  private Page page(long weight, Object... row) {
    Page page = new Page(layout);
    add(page, weight, row);
    return page;
  }

  private List<String> scanned(RelationVersion version) {
    List<String> rows = new ArrayList<>();
    version.scan(
        page -> {
          for (int i = 0; i < page.size(); i++) {
            String row = text(page.bytes(), page.start(i));
            rows.addAll(Collections.nCopies((int) page.weight(i), row));
          }
        });
    Collections.sort(rows);
    return rows;
  }

  private String text(byte[] bytes, int at) {
    return Arrays.toString(BoxedRows.read(layout, bytes, at));
  }

  private List<String> ranged(RelationVersion version, boolean descending) {
    List<String> rows = new ArrayList<>();
    version.range(null, null, descending, (bytes, at) -> rows.add(text(bytes, at)));
    return rows;
  }

  private List<String> found(RelationVersion version, Object... key) {
    List<String> rows = new ArrayList<>();
    version.find(key, (bytes, at) -> rows.add(text(bytes, at)));
    return rows;
  }

  private RelationVersion publish(KeptRows rows) {
    versions.publish();
    return rows.version(versions.published());
  }

  private Object area(Random random) {
    int kind = random.nextInt(4);
    if (schema == NUMBERS) {
      return kind == 0 ? null : (Object) (long) random.nextInt(3);
    }
    return kind == 0 ? null : kind == 1 ? "long ".repeat(12) + random.nextInt(3) : "a" + kind;
  }

  /** A version that somebody still reads, and what it must be. */
  private record Held(RelationVersion version, Versions.Pin pin, List<String> rows) {}

  private static List<String> sorted(Map<Long, Object[]> model) {
    return model.values().stream().map(Arrays::toString).sorted().collect(Collectors.toList());
  }

  /** Keys come, change, swap and go; every version that is held stays what it was, in any order. */
  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3, 4, 5, 6})
  void uniqueRowsEqualAMapAtEveryVersion(long seed) {
    Random random = new Random(seed);
    if (seed > 4) {
      schema = NUMBERS;
      layout = new RowLayout(schema);
    }
    KeptRows rows = KeptRows.unique(schema, ID);
    rows.join(versions);
    TreeMap<Long, Object[]> model = new TreeMap<>();
    List<Held> held = new ArrayList<>();
    Durable durable = rows.durable();
    List<byte[]> chunks = new ArrayList<>();
    for (int epoch = 0; epoch < 250; epoch++) {
      Page delta = new Page(layout);
      List<Runnable> late = new ArrayList<>();
      for (int i = random.nextInt(8); i > 0; i--) {
        long id = random.nextInt(40);
        Object[] old = model.remove(id);
        Object[] now = random.nextInt(3) == 0 ? null : row(id, random);
        if (now != null) {
          model.put(id, now);
        }
        // The new row may stand before the old one, or far from it.
        if (old != null && random.nextBoolean()) {
          late.add(() -> add(delta, -1, old));
        } else if (old != null) {
          add(delta, -1, old);
        }
        if (now != null) {
          add(delta, 1, now);
        }
      }
      late.forEach(Runnable::run);
      rows.apply(delta);
      RelationVersion version = publish(rows);
      List<String> expected = sorted(model);
      assertThat(version.count()).isEqualTo(model.size());
      assertThat(scanned(version)).as("epoch %d", epoch).isEqualTo(expected);
      if (random.nextInt(3) > 0) {
        List<String> byId = model.values().stream().map(Arrays::toString).toList();
        assertThat(ranged(version, false)).isEqualTo(byId);
        Collections.reverse(byId = new ArrayList<>(byId));
        assertThat(ranged(version, true)).isEqualTo(byId);
      }
      long asked = random.nextInt(45);
      assertThat(found(version, asked))
          .isEqualTo(
              model.containsKey(asked) ? List.of(Arrays.toString(model.get(asked))) : List.of());
      if (random.nextInt(6) == 0) {
        held.add(new Held(version, versions.pin(), expected));
      }
      if (!held.isEmpty() && random.nextInt(8) == 0) {
        Held one = held.remove(random.nextInt(held.size()));
        assertThat(scanned(one.version)).isEqualTo(one.rows);
        assertThat(ranged(one.version, false)).hasSize(one.rows.size());
        one.pin.close();
      }
      if (random.nextInt(15) == 0) {
        Durable.Capture capture = durable.capture(chunks.isEmpty());
        if (capture != null) {
          capture.encode(chunks::add);
          capture.close();
        }
        if (random.nextInt(4) == 0) {
          chunks = merged(chunks);
        }
        KeptRows again = KeptRows.unique(schema, ID);
        again.durable().restore(chunks::forEach);
        again.restored();
        assertThat(scanned(again.version())).isEqualTo(expected);
        assertThat(again.version().count()).isEqualTo(model.size());
      }
    }
    for (Held one : held) {
      assertThat(scanned(one.version)).isEqualTo(one.rows);
    }
  }

  /** Merged in three slices; half of the time in two steps, the newer half first. */
  private static List<byte[]> merged(List<byte[]> chunks) {
    List<byte[]> parts = new ArrayList<>(chunks);
    if (chunks.size() > 2 && chunks.size() % 2 == 0) {
      List<byte[]> newer = chunks.subList(chunks.size() / 2, chunks.size());
      parts = new ArrayList<>(chunks.subList(0, chunks.size() / 2));
      StateChunks.merge(newer::forEach, 3, 1, false, parts::add);
    }
    List<byte[]> whole = new ArrayList<>();
    StateChunks.merge(parts::forEach, 3, 1, true, whole::add);
    return whole;
  }

  private Object[] row(long id, Random random) {
    return new Object[] {id, area(random), (long) random.nextInt(3)};
  }

  /** Rows may be there more than once, in one order by all columns and in another by one. */
  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void aBagEqualsAListAtEveryVersion(long seed) {
    Random random = new Random(seed);
    KeptRows rows = KeptRows.bag(schema, seed == 1 ? null : new int[] {2});
    rows.join(versions);
    List<Object[]> model = new ArrayList<>();
    List<byte[]> chunks = new ArrayList<>();
    for (int epoch = 0; epoch < 200; epoch++) {
      Page delta = new Page(layout);
      for (int i = random.nextInt(10); i > 0; i--) {
        if (!model.isEmpty() && random.nextInt(3) == 0) {
          add(delta, -1, model.remove(random.nextInt(model.size())));
        } else {
          Object[] row = row(random.nextInt(5), random);
          row[0] = random.nextInt(5) == 0 ? null : row[0];
          model.add(row);
          add(delta, 1, row);
        }
      }
      rows.apply(delta);
      RelationVersion version = publish(rows);
      List<String> expected =
          model.stream().map(Arrays::toString).sorted().collect(Collectors.toList());
      assertThat(scanned(version)).isEqualTo(expected);
      assertThat(version.count()).isEqualTo(model.size());
      List<String> inOrder = ranged(version, false);
      assertThat(inOrder.stream().sorted().toList()).isEqualTo(expected);
      if (seed != 1) {
        Comparator<String> byN = Comparator.comparing(r -> r.substring(r.lastIndexOf(' ')));
        assertThat(inOrder).isSortedAccordingTo(byN);
        long ones = model.stream().filter(r -> r[2].equals(1L)).count();
        assertThat(found(version, 1L)).hasSize((int) ones);
      }
      if (random.nextInt(20) == 0) {
        Durable.Capture capture = rows.durable().capture(chunks.isEmpty());
        if (capture != null) {
          capture.encode(chunks::add);
          capture.close();
        }
        chunks = merged(chunks);
        KeptRows again = KeptRows.bag(schema, null);
        again.durable().restore(chunks::forEach);
        again.restored();
        assertThat(scanned(again.version())).isEqualTo(expected);
      }
    }
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void aLogEqualsAListAtEveryVersion(long seed) {
    Random random = new Random(seed);
    int[] key = seed == 1 ? null : new int[] {0, 2};
    LogRows log = new LogRows(schema, key);
    log.join(versions);
    List<String> model = new ArrayList<>();
    List<Held> held = new ArrayList<>();
    List<byte[]> chunks = new ArrayList<>();
    for (int epoch = 0; epoch < 120; epoch++) {
      Page delta = new Page(layout);
      for (int i = random.nextInt(300); i > 0; i--) {
        Object[] row = row(random.nextInt(20), random);
        int times = 1 + random.nextInt(2);
        add(delta, times, row);
        model.addAll(Collections.nCopies(times, Arrays.toString(row)));
      }
      log.apply(delta);
      versions.publish();
      RelationVersion version = log.version(versions.published());
      List<String> expected = model.stream().sorted().toList();
      assertThat(version.count()).isEqualTo(model.size());
      assertThat(scanned(version)).isEqualTo(expected);
      if (random.nextInt(3) == 0) {
        List<String> inOrder = ranged(version, false);
        assertThat(inOrder.stream().sorted().toList()).isEqualTo(expected);
        if (key != null) {
          long asked = random.nextInt(20);
          long times = model.stream().filter(r -> r.startsWith("[" + asked + ",")).count();
          assertThat(found(version, asked)).hasSize((int) times);
        }
      }
      if (random.nextInt(10) == 0) {
        held.add(new Held(version, null, expected));
      }
      if (random.nextInt(15) == 0) {
        Durable.Capture capture = log.durable().capture(chunks.isEmpty());
        if (capture != null) {
          capture.encode(chunks::add);
        }
        chunks = random.nextBoolean() ? merged(chunks) : chunks;
        LogRows again = new LogRows(schema, key);
        again.durable().restore(chunks::forEach);
        assertThat(scanned(again.version(1))).isEqualTo(expected);
      }
    }
    for (Held one : held) {
      assertThat(scanned(one.version)).isEqualTo(one.rows);
      assertThat(ranged(one.version, true)).hasSize(one.rows.size());
    }
    assertThatThrownBy(() -> log.apply(page(-1, 1L, "N", 1L))).hasMessageContaining("only grows");
  }

  /** A thread that looks rows up keeps what makes the next look-up quick, and not the rows. */
  @Test
  void rowsThatWereLookedUpMayGo() {
    WeakReference<KeptRows> rows = lookedUp();
    for (int i = 0; i < 100 && rows.get() != null; i++) {
      System.gc();
    }
    assertThat(rows.get()).isNull();
  }

  private WeakReference<KeptRows> lookedUp() {
    KeptRows rows = KeptRows.unique(schema, ID);
    Versions own = Versions.ofGraph();
    rows.join(own);
    rows.apply(page(1, 7L, "area", 7L));
    own.publish();
    assertThat(found(rows.version(own.published()), 7L)).containsExactly("[7, area, 7]");
    return new WeakReference<>(rows);
  }

  @Test
  void aRowThatIsVisitedStaysWhileOthersAreLookedFor() {
    KeptRows rows = KeptRows.unique(schema, ID);
    rows.join(versions);
    for (long id = 0; id < 4; id++) {
      rows.apply(page(1, id, "area " + id, id));
    }
    RelationVersion version = publish(rows);
    List<String> seen = new ArrayList<>();
    version.find(
        new Object[] {1L},
        (bytes, at) -> {
          seen.addAll(found(version, 2L));
          version.find(
              new Object[] {3L},
              (inner, place) -> {
                seen.addAll(found(version, 0L));
                return seen.add(text(inner, place));
              });
          return seen.add(text(bytes, at));
        });
    assertThat(seen)
        .containsExactly("[2, area 2, 2]", "[0, area 0, 0]", "[3, area 3, 3]", "[1, area 1, 1]");
  }

  @Test
  void whatWasNeverPutInCannotBeTakenOut() {
    KeptRows unique = KeptRows.unique(schema, ID);
    unique.apply(page(1, 1L, "N", 1L));
    assertThatThrownBy(() -> unique.apply(page(-1, 1L, "S", 1L)))
        .hasMessage("a row was taken out 1 times more than it was put in");
    assertThatThrownBy(() -> unique.apply(page(1, 1L, "S", 1L)))
        .hasMessage("a primary key is there twice");
    KeptRows bag = KeptRows.bag(schema, null);
    bag.apply(page(2, 1L, "N", 1L));
    assertThatThrownBy(() -> bag.apply(page(-3, 1L, "N", 1L)))
        .hasMessage("a row was taken out 1 times more than it was put in");
    Page both = new Page(layout);
    add(both, -1, 7L, "x", 1L);
    add(both, 1, 7L, "x", 1L);
    KeptRows other = KeptRows.bag(schema, null);
    other.apply(both);
    assertThat(other.version().count()).isZero();
  }

  @Test
  void anOrderIsKeptUpToDateOnceSomebodyHasAsked() {
    KeptRows rows = KeptRows.unique(schema, ID);
    rows.join(versions);
    for (long i = 0; i < 1000; i += 2) {
      rows.apply(page(1, i, "a", 1L));
    }
    RelationVersion version = publish(rows);
    assertThat(version.finds(1)).as("by its hash").isTrue();
    assertThat(ranged(version, false)).hasSize(500);
    List<String> held = ranged(version, false);
    try (Versions.Pin pin = versions.pin()) {
      // The first order is made from a version from before the writer knew; a later one is kept.
      for (int round = 0; round < 4; round++) {
        rows.apply(page(1, 1L + 2 * round, "b", 1L));
        rows.apply(page(-1, 100L + 2 * round, "a", 1L));
        RelationVersion now = publish(rows);
        List<String> inOrder = ranged(now, false);
        assertThat(inOrder).hasSize(500).contains("[" + (1 + 2 * round) + ", b, 1]");
        assertThat(inOrder).doesNotContain("[" + (100 + 2 * round) + ", a, 1]");
        assertThat(ranged(version, false)).as("of version %d", pin.version()).isEqualTo(held);
      }
    }
  }

  @Test
  void rowsThatAreKeptDifferentlyAreNotTakenForEachOther() {
    assertThat(
            List.of(
                KeptRows.unique(schema, ID).form(),
                KeptRows.unique(schema, new int[] {0, 2}).form(),
                KeptRows.bag(schema, ID).form(),
                new LogRows(schema, ID).form()))
        .doesNotHaveDuplicates();
  }

  @Test
  void rowsLoadedAgainAreTheDifference() {
    KeptRows older = KeptRows.unique(schema, ID);
    KeptRows newer = KeptRows.unique(schema, ID);
    for (long i = 0; i < 100; i++) {
      older.apply(page(1, i, "x".repeat((int) i), 1L));
      if (i % 10 != 0) {
        newer.apply(page(1, i + 5, "x".repeat((int) i + 5), i % 7 == 0 ? 2L : 1L));
      }
    }
    TableDifference.between(older.version(), newer, older::apply);
    assertThat(scanned(older.version())).isEqualTo(scanned(newer.version()));
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void aTransactionSeesItsOwnChanges(long seed) {
    Random random = new Random(seed);
    KeptRows rows = KeptRows.unique(schema, ID);
    TreeMap<Long, Object[]> model = new TreeMap<>();
    for (long id = 0; id < 60; id += 2) {
      model.put(id, row(id, random));
      rows.apply(page(1, model.get(id)));
    }
    RelationVersion version = rows.version();
    for (int statement = 0; statement < 30; statement++) {
      Page delta = new Page(layout);
      for (int i = 0; i < 5; i++) {
        long id = random.nextInt(60);
        Object[] old = model.remove(id);
        if (old != null) {
          add(delta, -1, old);
        }
        if (random.nextBoolean()) {
          model.put(id, row(id, random));
          add(delta, 1, model.get(id));
        }
      }
      version = OverlayVersion.of(version, delta);
      List<String> inOrder = model.values().stream().map(Arrays::toString).toList();
      assertThat(scanned(version)).isEqualTo(sorted(model));
      assertThat(ranged(version, false)).isEqualTo(inOrder);
      List<String> reversed = new ArrayList<>(inOrder);
      Collections.reverse(reversed);
      assertThat(ranged(version, true)).isEqualTo(reversed);
      assertThat(version.count()).isEqualTo(model.size());
      long id = random.nextInt(60);
      assertThat(found(version, id))
          .isEqualTo(model.containsKey(id) ? List.of(Arrays.toString(model.get(id))) : List.of());
    }
    assertThatThrownBy(() -> OverlayVersion.of(rows.version(), page(-1, 1L, "never", 1L)))
        .hasMessageContaining("not there");
  }

  @Test
  void memoryOfDeletedRowsIsGivenBack() {
    KeptRows rows = KeptRows.unique(schema, ID);
    rows.join(versions);
    String text = "x".repeat(5000);
    Page in = new Page(layout);
    Page out = new Page(layout);
    for (long i = 0; i < 2000; i++) {
      add(in, 1, i, text, 1L);
      add(out, -1, i, text, 1L);
    }
    rows.apply(in);
    publish(rows);
    long full = rows.heapBytes();
    rows.apply(out);
    publish(rows);
    publish(rows);
    assertThat(rows.heapBytes()).isLessThan(full / 3);
    rows.apply(in);
    RelationVersion version = publish(rows);
    assertThat(version.count()).isEqualTo(2000);
    assertThat(found(version, 1999L)).containsExactly("[1999, " + text + ", 1]");
  }
}
