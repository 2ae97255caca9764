package dripledger.engine.store;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.util.ArrayList;
import java.util.HashMap;
import java.util.HashSet;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.Set;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

class JoinIndexTest {
  private static final JoinIndex.Rows[] BOTH_GO = {JoinIndex.Rows.GO, JoinIndex.Rows.GO};

  /** Against maps of sets: keys with many rows, of both sides, that go and come back. */
  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3, 4})
  void rowsComeAndGoAsInMapsOfSets(long seed) {
    Random random = new Random(seed);
    Set<Long> released = new HashSet<>();
    JoinIndex index = new JoinIndex(2, BOTH_GO, (page, at) -> released.add(page[at]));
    List<Map<Long, Set<Integer>>> expected = List.of(new HashMap<>(), new HashMap<>());
    List<Map<Integer, Long>> keyOf = List.of(new HashMap<>(), new HashMap<>());
    for (int step = 0; step < 80_000; step++) {
      int side = random.nextInt(2);
      int row = random.nextInt(2000);
      Long key = keyOf.get(side).remove(row);
      if (key != null) {
        remove(index, side, key, row);
        expected.get(side).get(key).remove(row);
      } else {
        // A few keys are hot.
        long chosen = random.nextInt(4) == 0 ? random.nextInt(3) : random.nextInt(900);
        add(index, side, chosen, row);
        expected.get(side).computeIfAbsent(chosen, k -> new HashSet<>()).add(row);
        keyOf.get(side).put(row, chosen);
      }
      if (step % 500 == 0) {
        check(index, 0, expected.get(0));
        check(index, 1, expected.get(1));
      }
    }
    assertThat(released).isNotEmpty();
    Set<Long> there = new HashSet<>(keyOf.get(0).values());
    there.addAll(keyOf.get(1).values());
    assertThat(index.keys()).isEqualTo(there.size());
  }

  /** What is noted of a row that is kept elsewhere keeps no key alive. */
  @Test
  void aNoteGoesWithTheLastRowOfItsKey() {
    JoinIndex.Rows[] rows = {JoinIndex.Rows.GO, JoinIndex.Rows.ELSEWHERE};
    Set<Long> released = new HashSet<>();
    JoinIndex index = new JoinIndex(2, rows, (page, at) -> released.add(page[at]));
    note(index, 5, 77); // there is no such key yet
    assertThat(first(index, 1, 5)).isEqualTo(JoinIndex.NONE);
    add(index, 0, 5, 1);
    add(index, 0, 5, 2);
    note(index, 5, 78);
    note(index, 5, 79);
    assertThat(first(index, 1, 5)).isEqualTo(79);
    assertThat(rows(index, 0, 5)).containsExactlyInAnyOrder(1, 2);
    remove(index, 0, 5, 2);
    remove(index, 0, 5, 1);
    assertThat(index.keys()).isZero();
    assertThat(released).containsExactly(5L);
    add(index, 0, 5, 3);
    assertThat(first(index, 1, 5)).isEqualTo(JoinIndex.NONE);
  }

  private static void note(JoinIndex index, long key, int row) {
    long hash = index.hash(words(key), 0);
    int[] places = new int[1];
    index.ahead(0, words(key), 1, new long[1], places, new int[1], new int[1]);
    index.note(1, hash, words(key), 0, places[0], row);
  }

  private static long[] words(long key) {
    return new long[] {key, key * 31};
  }

  /** A place where a key once was says nothing of where it is. */
  private static int lastPlace;

  private static void add(JoinIndex index, int side, long key, int row) {
    index.add(side, index.hash(words(key), 0), words(key), 0, lastPlace++ % 40 * 3, row);
  }

  private static void remove(JoinIndex index, int side, long key, int row) {
    index.remove(side, index.hash(words(key), 0), words(key), 0, row);
  }

  private static int first(JoinIndex index, int side, long key) {
    int[] first = new int[1];
    index.ahead(side, words(key), 1, new long[1], new int[1], first, new int[1]);
    return first[0];
  }

  private static List<Integer> rows(JoinIndex index, int side, long key) {
    List<Integer> found = new ArrayList<>();
    for (int r = first(index, side, key); r != JoinIndex.NONE; r = index.next(side, r)) {
      found.add(r);
    }
    return found;
  }

  private static void check(JoinIndex index, int side, Map<Long, Set<Integer>> expected) {
    expected.forEach(
        (key, rows) ->
            assertThat(rows(index, side, key)).containsExactlyInAnyOrderElementsOf(rows));
    assertThat(first(index, side, -1)).isEqualTo(JoinIndex.NONE);
  }

  @Test
  void whatIsLookedForAheadIsWhatIsThereOnBothSides() {
    JoinIndex index =
        new JoinIndex(
            2, new JoinIndex.Rows[] {JoinIndex.Rows.STAY, JoinIndex.Rows.GO}, (page, at) -> {});
    for (int i = 0; i < 1000; i++) {
      add(index, 0, i % 300, i);
      add(index, 1, i % 200, i);
    }
    long[] keys = new long[800];
    for (int i = 0; i < 400; i++) {
      System.arraycopy(words(i), 0, keys, 2 * i, 2);
    }
    int[] own = new int[400];
    int[] others = new int[400];
    index.ahead(1, keys, 400, new long[400], new int[400], own, others);
    for (int i = 0; i < 400; i++) {
      assertThat(own[i]).as("key " + i).isEqualTo(first(index, 1, i));
      assertThat(others[i]).as("key " + i).isEqualTo(first(index, 0, i));
    }
    assertThat(index.nextAhead(0, others, 400)).isEqualTo(300);
    for (int i = 0; i < 400; i++) {
      int next = i < 300 ? index.next(0, first(index, 0, i)) : JoinIndex.NONE;
      assertThat(others[i]).as("behind the first of " + i).isEqualTo(next);
    }
  }

  @Test
  void aKeyStaysWhileOneOfTheSidesHasIt() {
    List<Long> released = new ArrayList<>();
    JoinIndex index = new JoinIndex(2, BOTH_GO, (page, at) -> released.add(page[at]));
    add(index, 0, 7, 1);
    add(index, 1, 7, Integer.MAX_VALUE / 1000);
    remove(index, 0, 7, 1);
    assertThat(released).isEmpty();
    assertThat(rows(index, 1, 7)).containsExactly(Integer.MAX_VALUE / 1000);
    remove(index, 1, 7, Integer.MAX_VALUE / 1000);
    assertThat(released).containsExactly(7L);
    assertThat(index.keys()).isZero();
  }

  @Test
  void aSideOfOneRowAKeyHasNoSecond() {
    JoinIndex.Rows[] one = {JoinIndex.Rows.ONE, JoinIndex.Rows.GO};
    JoinIndex index = new JoinIndex(2, one, (page, at) -> {});
    add(index, 0, 7, 1);
    add(index, 1, 7, 1);
    assertThatThrownBy(() -> add(index, 0, 7, 2)).isInstanceOf(IllegalStateException.class);
    assertThat(index.next(0, 1)).isEqualTo(JoinIndex.NONE);
    remove(index, 0, 7, 1);
    add(index, 0, 7, 2);
    assertThat(rows(index, 0, 7)).containsExactly(2);
    assertThat(rows(index, 1, 7)).containsExactly(1);
  }

  @Test
  void aRowThatIsNotThereIsNotTakenOut() {
    JoinIndex index = new JoinIndex(2, BOTH_GO, (page, at) -> {});
    add(index, 0, 7, 1);
    remove(index, 0, 7, 1);
    assertThatThrownBy(() -> remove(index, 0, 7, 1)).isInstanceOf(IllegalStateException.class);
  }
}
