package dripledger.engine.state;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.row.Bytes;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

class KeyedArenaTest {
  /** Random inserts, updates and removals against a HashMap, with keys of varying length. */
  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void equalsAHashMap(long seed) {
    Random random = new Random(seed);
    KeyedArena table = new KeyedArena(-1, 16);
    Map<String, Long> model = new HashMap<>();
    for (int i = 0; i < 200_000; i++) {
      String key = "k".repeat(random.nextInt(40)) + random.nextInt(3000);
      byte[] bytes = key.getBytes(StandardCharsets.ISO_8859_1);
      if (random.nextInt(3) == 0) {
        int entry = table.find(bytes, 0, bytes.length);
        assertThat(entry != 0).isEqualTo(model.remove(key) != null);
        if (entry != 0) {
          table.remove(entry);
        }
      } else {
        int entry = table.findOrInsert(bytes, 0, bytes.length);
        long value = Bytes.getLong(table.chunk(entry), table.valueAt(entry) + 8);
        assertThat(value).as("seed %d", seed).isEqualTo(model.getOrDefault(key, 0L));
        Bytes.putLong(table.chunk(entry), table.valueAt(entry) + 8, value + i);
        model.put(key, value + i);
      }
    }
    assertThat(table.size()).isEqualTo(model.size());
    model.forEach(
        (key, value) -> {
          byte[] bytes = key.getBytes(StandardCharsets.ISO_8859_1);
          int entry = table.find(bytes, 0, bytes.length);
          assertThat(Bytes.getLong(table.chunk(entry), table.valueAt(entry) + 8)).isEqualTo(value);
          assertThat(table.keyLength(entry)).isEqualTo(bytes.length);
        });
  }

  @Test
  void freedBlocksAreUsedAgain() {
    ByteArena arena = new ByteArena();
    List<Integer> blocks = new ArrayList<>();
    for (int i = 0; i < 5000; i++) {
      blocks.add(arena.allocate(100 + i % 3000));
    }
    long held = arena.heapBytes();
    for (int round = 0; round < 20; round++) {
      for (int i = 0; i < blocks.size(); i++) {
        arena.free(blocks.get(i), 100 + i % 3000);
      }
      for (int i = 0; i < blocks.size(); i++) {
        blocks.set(i, arena.allocate(100 + i % 3000));
      }
    }
    assertThat(arena.heapBytes()).isEqualTo(held);
    assertThat(arena.freeBytes()).isZero();
    assertThat(blocks).doesNotHaveDuplicates();
  }
}
