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

class HashIndexTest {
  /** Against a map of sets: keys with many blocks, keys that go and come back. */
  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3, 4})
  void blocksComeAndGoAsInAMapOfSets(long seed) {
    Random random = new Random(seed);
    Set<Long> released = new HashSet<>();
    HashIndex index = new HashIndex(2, (page, at) -> released.add(page[at]));
    Map<Long, Set<Integer>> expected = new HashMap<>();
    Map<Integer, Long> keyOf = new HashMap<>();
    for (int step = 0; step < 60_000; step++) {
      int block = random.nextInt(4000);
      Long key = keyOf.remove(block);
      if (key != null) {
        index.remove(words(key), block);
        expected.get(key).remove(block);
      } else {
        // A few keys are hot.
        long chosen = random.nextInt(4) == 0 ? random.nextInt(3) : random.nextInt(900);
        index.add(words(chosen), block);
        expected.computeIfAbsent(chosen, k -> new HashSet<>()).add(block);
        keyOf.put(block, chosen);
      }
      if (step % 500 == 0) {
        check(index, expected);
      }
    }
    assertThat(released).isNotEmpty();
    assertThat(index.keys())
        .isEqualTo(expected.values().stream().filter(s -> !s.isEmpty()).count());
  }

  private static long[] words(long key) {
    return new long[] {key, key * 31};
  }

  private static void check(HashIndex index, Map<Long, Set<Integer>> expected) {
    expected.forEach(
        (key, blocks) -> {
          List<Integer> found = new ArrayList<>();
          for (int b = index.first(words(key)); b != HashIndex.NONE; b = index.next(b)) {
            found.add(b);
          }
          assertThat(found).containsExactlyInAnyOrderElementsOf(blocks);
        });
    assertThat(index.first(words(-1))).isEqualTo(HashIndex.NONE);
  }

  @Test
  void whatIsLookedForAheadIsWhatIsThere() {
    HashIndex index = new HashIndex(1, (page, at) -> {});
    for (int i = 0; i < 1000; i++) {
      index.add(new long[] {i % 300}, i);
    }
    long[] keys = new long[400];
    int[] blocks = new int[400];
    for (int i = 0; i < keys.length; i++) {
      keys[i] = i;
    }
    index.firstAhead(keys, keys.length, blocks);
    int sure = 0;
    for (int i = 0; i < keys.length; i++) {
      int first = index.first(new long[] {i});
      assertThat(blocks[i]).as("key " + i).isIn(first, HashIndex.NONE);
      sure += blocks[i] == first ? 1 : 0;
    }
    assertThat(sure).as("more than one look is rare").isGreaterThan(390);
  }

  @Test
  void aBlockThatIsNotThereIsNotTakenOut() {
    HashIndex index = new HashIndex(1, (page, at) -> {});
    index.add(new long[] {7}, 1);
    index.remove(new long[] {7}, 1);
    assertThatThrownBy(() -> index.remove(new long[] {7}, 1))
        .isInstanceOf(IllegalStateException.class);
  }
}
