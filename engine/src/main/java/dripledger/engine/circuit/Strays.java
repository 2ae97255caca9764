package dripledger.engine.circuit;

import java.nio.ByteBuffer;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/**
 * Rows of a side that keeps one a key, which came before the row of their key went, or went before
 * they came: both may be within an epoch, and are seldom. Found by what they are joined on. One
 * thread.
 */
final class Strays {
  private final Map<ByteBuffer, List<Stray>> byJoinKey = new LinkedHashMap<>();

  /** A row, how many times it is there (below 0: it has still to come), and what it has met. */
  static final class Stray {
    final byte[] row;
    long weight;
    long met;

    private Stray(byte[] row, long met) {
      this.row = row;
      this.met = met;
    }
  }

  boolean isEmpty() {
    return byJoinKey.isEmpty();
  }

  /**
   * Puts a row in or takes it out.
   *
   * @param joinKey what it is joined on
   * @param met how many rows it has met, if it is new
   */
  void add(byte[] joinKey, byte[] bytes, int row, int length, long weight, long met) {
    List<Stray> same = byJoinKey.computeIfAbsent(ByteBuffer.wrap(joinKey), k -> new ArrayList<>(1));
    for (Stray stray : same) {
      if (Arrays.equals(stray.row, 0, stray.row.length, bytes, row, row + length)) {
        stray.weight += weight;
        return; // none is taken out of a list that may be walked
      }
    }
    Stray stray = new Stray(Arrays.copyOfRange(bytes, row, row + length), met);
    stray.weight = weight;
    same.add(stray);
  }

  /** The rows of a key; some may be there no times. */
  List<Stray> of(byte[] joinKey) {
    return byJoinKey.getOrDefault(ByteBuffer.wrap(joinKey), List.of());
  }

  /** All rows that are there or have still to come; they are forgotten. */
  List<Stray> take() {
    List<Stray> all = new ArrayList<>();
    byJoinKey.values().forEach(all::addAll);
    all.removeIf(stray -> stray.weight == 0);
    byJoinKey.clear();
    return all;
  }
}
