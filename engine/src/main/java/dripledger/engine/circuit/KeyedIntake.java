package dripledger.engine.circuit;

import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.store.KeyedStore;
import java.util.Arrays;

/**
 * Adds rows to their groups: the groups of many rows are looked for together, so that their loads
 * wait for memory together. Written by one thread.
 */
final class KeyedIntake implements GroupIntake {
  private static final int BLOCK = 256;

  private final RowLayout input;
  private final GroupKeys keys;
  private final GroupState state;
  private final KeyedStore groups;
  private final AggregateKernel kernel;
  private final TimedGroups ends; // or null if groups never end
  private final NearGroups near;
  private final long[] keyWords;
  private final long[] hashes = new long[BLOCK];
  private final int[] blocks = new int[BLOCK];
  private final int[] rows = new int[BLOCK];
  private final long[] weights = new long[BLOCK];

  KeyedIntake(
      RowLayout input, GroupKeys keys, GroupState state, AggregateKernel kernel, TimedGroups ends) {
    this.input = input;
    this.keys = keys;
    this.state = state;
    this.groups = state.groups();
    this.kernel = kernel;
    this.ends = ends;
    near = new NearGroups(groups, BLOCK);
    keyWords = new long[BLOCK * keys.words()];
  }

  @Override
  public void take(Page all) {
    Page delta = ends == null ? all : ends.open(all);
    int plain = keys.plainColumn();
    for (int from = 0; from < delta.size(); from += BLOCK) {
      int to = Math.min(delta.size(), from + BLOCK);
      if (plain >= 0) {
        pushPlain(delta, from, to, input.slotOffset(plain));
      } else {
        pushBlock(delta, from, to);
      }
    }
  }

  /** First all keys and what they lead to, then the work: see {@link KeyedStore#findAhead}. */
  private void pushPlain(Page delta, int from, int to, int slot) {
    byte[] bytes = delta.bytes();
    int count = to - from;
    for (int i = 0; i < count; i++) {
      keyWords[i] = Bytes.getLong(bytes, delta.start(from + i) + slot);
    }
    near.find(keyWords, hashes, blocks, count);
    add(delta, from, count);
  }

  private void pushBlock(Page delta, int from, int to) {
    byte[] bytes = delta.bytes();
    int words = keys.words();
    int count = to - from;
    for (int i = 0; i < count; i++) {
      if (delta.weight(from + i) == 0) {
        Arrays.fill(keyWords, i * words, (i + 1) * words, 0);
      } else {
        keys.encode(bytes, delta.start(from + i), keyWords, i * words);
      }
      hashes[i] = groups.hashOf(keyWords, i * words);
    }
    groups.findAhead(keyWords, hashes, blocks, count, words);
    add(delta, from, count);
  }

  /** Adds rows whose keys have been looked for. */
  private void add(Page delta, int from, int count) {
    for (int i = 0; i < count; i++) {
      weights[i] = delta.weight(from + i);
      rows[i] = delta.start(from + i);
      if (weights[i] == 0) {
        continue;
      }
      makeReady(i);
    }
    state.ahead(delta.bytes(), rows, count);
    kernel.add(delta.bytes(), rows, weights, count, groups, blocks, state);
  }

  @Override
  public void take(ColumnDelta all) {
    ColumnDelta delta = ends == null ? all : ends.open(all);
    int words = keys.words();
    for (int from = 0; from < delta.size; from += BLOCK) {
      int count = Math.min(BLOCK, delta.size - from);
      int plain = keys.plainColumn();
      if (plain >= 0) {
        System.arraycopy(delta.columns[plain], from, keyWords, 0, count);
        near.find(keyWords, hashes, blocks, count);
      } else {
        for (int i = 0; i < count; i++) {
          keys.encode(delta, from + i, keyWords, i * words);
          hashes[i] = groups.hashOf(keyWords, i * words);
        }
        groups.findAhead(keyWords, hashes, blocks, count, words);
      }
      for (int i = 0; i < count; i++) {
        makeReady(i);
      }
      kernel.addColumns(delta.columns, delta.nulls, delta.weights, from, count, groups, blocks);
    }
  }

  /** Makes the block of a key that was looked for ready to be changed. */
  private void makeReady(int i) {
    if (blocks[i] == KeyedStore.NONE) {
      long known = groups.size();
      blocks[i] = groups.changeOrInsert(hashes[i], keyWords, i * keys.words());
      if (ends != null && groups.size() != known) {
        ends.note(blocks[i]);
      }
    } else {
      groups.change(blocks[i]);
    }
  }
}
