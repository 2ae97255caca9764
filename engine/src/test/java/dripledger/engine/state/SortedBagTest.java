package dripledger.engine.state;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.TreeMap;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;

class SortedBagTest {
  private static void add(BagBatch batch, String key, String tail, long weight) {
    byte[] k = key.getBytes(StandardCharsets.ISO_8859_1);
    byte[] t = tail.getBytes(StandardCharsets.ISO_8859_1);
    batch.add(k, 0, k.length, t, 0, t.length, weight);
  }

  private static Map<String, Long> contents(SortedBag bag) {
    Map<String, Long> all = new TreeMap<>();
    List<String> order = new ArrayList<>();
    SortedBag.Cursor c = bag.cursor();
    for (boolean there = c.first(); there; there = c.next()) {
      String entry =
          new String(c.bytes(), c.start(), c.end() - c.start(), StandardCharsets.ISO_8859_1);
      all.put(entry, c.weight());
      order.add(entry);
    }
    assertThat(order).isSorted();
    List<String> back = new ArrayList<>();
    for (boolean there = c.last(); there; there = c.previous()) {
      back.add(
          0, new String(c.bytes(), c.start(), c.end() - c.start(), StandardCharsets.ISO_8859_1));
    }
    assertThat(back).isEqualTo(order);
    return all;
  }

  /** Random batches against a TreeMap: short and long keys, fixed and varying lengths, weights. */
  @ParameterizedTest
  @CsvSource({
    "1, 10, 3, true",
    "2, 400, 30, false",
    "3, 20000, 3000, true",
    "4, 5000, 900, false",
    "5, 200, 2000, true"
  })
  void equalsATreeMap(long seed, int keys, int changes, boolean fixed) {
    Random random = new Random(seed);
    TreeMap<String, Long> model = new TreeMap<>();
    SortedBag bag = SortedBag.EMPTY;
    BagBatch batch = new BagBatch();
    List<SortedBag> versions = new ArrayList<>();
    List<Map<String, Long>> copies = new ArrayList<>();
    for (int round = 0; round < 30; round++) {
      boolean shrinking = round % 10 > 6;
      for (int i = 0; i < changes; i++) {
        String key =
            fixed
                ? String.format("%08d", random.nextInt(keys))
                : "k".repeat(random.nextInt(3)) + random.nextInt(keys);
        String tail =
            fixed ? "row-" + random.nextInt(3) : "r".repeat(random.nextInt(12)) + random.nextInt(3);
        long held = model.getOrDefault(key + tail, 0L);
        long weight =
            held > 0 && (shrinking || random.nextBoolean())
                ? -1 - random.nextInt((int) held)
                : 1 + random.nextInt(2) / (fixed ? 2 : 1);
        if (shrinking && weight > 0) {
          continue;
        }
        add(batch, key, tail, weight);
        if (held + weight == 0) {
          model.remove(key + tail);
        } else {
          model.put(key + tail, held + weight);
        }
      }
      bag = bag.apply(batch);
      batch.clear();
      assertThat(contents(bag)).as("seed %d, round %d", seed, round).isEqualTo(model);
      assertThat(bag.weight()).isEqualTo(model.values().stream().mapToLong(Long::longValue).sum());
      assertThat(bag.entries()).isEqualTo(model.size());
      versions.add(bag);
      copies.add(new TreeMap<>(model));
    }
    for (int i = 0; i < versions.size(); i++) {
      assertThat(contents(versions.get(i)))
          .as("old versions never change")
          .isEqualTo(copies.get(i));
    }
  }

  @Test
  void seekFindsTheFirstAtOrBehind() {
    BagBatch batch = new BagBatch();
    for (int i = 0; i < 5000; i += 2) {
      add(batch, String.format("%06d", i), "xyz", 1);
    }
    SortedBag bag = SortedBag.EMPTY.apply(batch);
    SortedBag.Cursor c = bag.cursor();
    for (int i = 0; i < 4998; i++) {
      byte[] wanted = String.format("%06d", i).getBytes(StandardCharsets.ISO_8859_1);
      assertThat(c.seek(wanted, 0, wanted.length)).isTrue();
      String found = new String(c.bytes(), c.start(), 6, StandardCharsets.ISO_8859_1);
      assertThat(Integer.parseInt(found)).isEqualTo(i + i % 2);
    }
    byte[] end = "999999".getBytes(StandardCharsets.ISO_8859_1);
    assertThat(c.seek(end, 0, end.length)).isFalse();
  }

  @Test
  void takingOutWhatWasNeverPutInIsAnError() {
    BagBatch batch = new BagBatch();
    add(batch, "12345678", "row", -1);
    assertThatThrownBy(() -> SortedBag.EMPTY.apply(batch))
        .isInstanceOf(IllegalStateException.class)
        .hasMessageContaining("taken out");
  }
}
