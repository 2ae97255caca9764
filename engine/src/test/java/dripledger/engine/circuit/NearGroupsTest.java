package dripledger.engine.circuit;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.store.KeyedReads;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.HashMap;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;

/** What is near is where it is looked for, while keys come, go and come again. */
class NearGroupsTest {
  private static final int MOST = 256;

  @ParameterizedTest
  @CsvSource({"1, 12", "2, 700", "3, 50000"})
  void aBlockIsThatOfItsKey(long seed, int keys) {
    Random random = new Random(seed);
    Versions versions = Versions.ofGraph();
    KeyedStore store = new KeyedStore(versions, 1, 1, 4);
    NearGroups near = new NearGroups(store, MOST);
    Map<Long, Long> sums = new HashMap<>(); // of the keys that are there
    long[] wanted = new long[MOST];
    long[] hashes = new long[MOST];
    int[] blocks = new int[MOST];
    for (int version = 0; version < 300; version++) {
      for (int take = random.nextInt(4); take >= 0; take--) {
        int count = 1 + random.nextInt(MOST);
        for (int i = 0; i < count; i++) {
          wanted[i] = random.nextInt(keys);
        }
        near.find(wanted, hashes, blocks, count);
        for (int i = 0; i < count; i++) {
          if (blocks[i] == KeyedStore.NONE) {
            assertThat(hashes[i]).isEqualTo(KeyedReads.hash(wanted[i]));
            blocks[i] = store.changeOrInsert(hashes[i], wanted, i);
          } else {
            store.change(blocks[i]);
          }
          assertThat(store.page(blocks[i])[store.header(blocks[i]) + 1]).isEqualTo(wanted[i]);
          store.page(blocks[i])[store.state(blocks[i])] += wanted[i] + version;
          sums.merge(wanted[i], wanted[i] + version, Long::sum);
        }
        // some go in the middle of a version, and may come again in it
        for (int i = 0; i < count && random.nextInt(3) == 0; i++) {
          if (sums.remove(wanted[i]) != null) {
            store.remove(blocks[i]);
          }
        }
      }
      versions.publish();
    }
    assertThat(store.size()).isEqualTo(sums.size());
    long[] read = new long[2];
    sums.forEach(
        (key, sum) -> {
          long[] words = {key};
          int block = store.lookup(KeyedReads.hash(key), words, versions.published(), read);
          assertThat(block).isNotEqualTo(KeyedStore.NONE);
          assertThat(read[1]).as("key " + key).isEqualTo(sum);
        });
  }
}
