package dripledger.engine.row;

import java.util.HashMap;
import java.util.Map;

/** The layouts of arrays with one kind of element, by their length. One thread. */
public final class ArrayLayouts {
  private static final int MOST = 64; // of lengths that are met again and again

  private final ColumnType element;
  private final Map<Integer, RowLayout> layouts = new HashMap<>();
  private RowLayout last;

  public ArrayLayouts(ColumnType element) {
    this.element = element;
  }

  /** The layout that the elements of an array stand in, one behind the other. */
  public RowLayout of(int count) {
    if (last == null || last.columns() != count) {
      last =
          count < MOST
              ? layouts.computeIfAbsent(count, n -> RowLayout.ofArray(element, n))
              : RowLayout.ofArray(element, count);
    }
    return last;
  }
}
