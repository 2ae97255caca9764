package dripledger.engine.state;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.util.ArrayList;
import java.util.Comparator;
import java.util.List;
import java.util.Random;
import java.util.TreeSet;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

class SortedRunsTest {
  private static final Comparator<Integer> BY_TIE = Comparator.comparingInt(SortedRunsTest::tie);

  /** An order of blocks that is not that of their numbers. */
  private static int tie(int block) {
    return Integer.reverse(block);
  }

  private static long key(int block, int distinct) {
    return block * 0x9E3779B97F4A7C15L >>> 40 & distinct - 1;
  }

  /** Sets that grow large and small again, with few sort keys or many, against a TreeSet each. */
  @ParameterizedTest
  @ValueSource(ints = {1, 64, 1 << 20})
  void equalsATreeSet(int distinct) {
    Random random = new Random(distinct);
    SortedRuns runs = new SortedRuns((a, b) -> Integer.compare(tie(a), tie(b)));
    int sets = 40;
    long[] words = new long[sets];
    List<TreeSet<Integer>> models = new ArrayList<>();
    Comparator<Integer> order =
        Comparator.<Integer>comparingLong(block -> key(block, distinct)).thenComparing(BY_TIE);
    for (int i = 0; i < sets; i++) {
      models.add(new TreeSet<>(order));
    }
    for (int step = 0; step < 60_000; step++) {
      int set = random.nextInt(4) > 0 ? random.nextInt(3) : random.nextInt(sets);
      TreeSet<Integer> model = models.get(set);
      boolean shrinking = step / 15_000 % 2 == 1;
      int block = random.nextInt(6000);
      if (shrinking && !model.isEmpty() && random.nextInt(5) > 0) {
        Integer next = model.ceiling(block);
        block = next == null ? model.first() : next;
      }
      if (model.remove(block)) {
        words[set] = runs.remove(words[set], key(block, distinct), block);
      } else if (!shrinking) {
        model.add(block);
        words[set] = runs.insert(words[set], key(block, distinct), block);
      }
      assertThat(runs.first(words[set])).isEqualTo(model.isEmpty() ? -1 : model.first());
      assertThat(runs.last(words[set])).isEqualTo(model.isEmpty() ? -1 : model.last());
      assertThat(words[set] == 0).isEqualTo(model.isEmpty());
    }
    for (int set = 0; set < sets; set++) {
      for (int block : new ArrayList<>(models.get(set))) {
        assertThat(runs.first(words[set])).isEqualTo(block);
        words[set] = runs.remove(words[set], key(block, distinct), block);
      }
      assertThat(words[set]).isZero();
    }
    assertThat(runs.heapBytes()).as("leaves go back to the heap").isLessThan(300_000);
  }

  @Test
  void ascendingFillsTheLeavesAndWhatIsNotThereIsRefused() {
    SortedRuns runs = new SortedRuns(Integer::compare);
    long set = 0;
    for (int i = 0; i < 100_000; i++) {
      set = runs.insert(set, i, i);
    }
    assertThat(runs.heapBytes() / 100_000.0).as("bytes a place").isLessThan(13);
    assertThat(runs.last(set)).isEqualTo(99_999);
    long full = set;
    assertThatThrownBy(() -> runs.remove(full, 7, 8)).hasMessageContaining("not there");
    assertThatThrownBy(() -> runs.remove(0, 7, 8)).hasMessageContaining("not there");
  }
}
