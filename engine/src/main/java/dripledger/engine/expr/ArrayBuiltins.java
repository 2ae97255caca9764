package dripledger.engine.expr;

import dripledger.engine.row.ArrayLayouts;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import java.math.BigDecimal;
import java.util.HashMap;
import java.util.Map;

/**
 * What generated code reads and makes arrays with: their bytes are the number of elements and a row
 * of them. One for each generated class; one thread.
 */
public final class ArrayBuiltins {
  private final Map<ColumnType, ArrayLayouts> layouts = new HashMap<>();
  private RowLayout layout;
  private byte[] array;
  private int element;

  /** How many elements an array has. */
  public static int count(byte[] array) {
    return Bytes.getInt(array, 0);
  }

  /** The place of the only element of what a query in an expression has answered. */
  public static int only(byte[] array) {
    if (count(array) > 1) {
      throw new Casts.CastException("a query in an expression answers more than one row");
    }
    return 1;
  }

  /**
   * Goes to an element.
   *
   * @param one a layout of one element
   * @param index from 1 on
   * @return whether it is there and not NULL
   */
  public boolean at(RowLayout one, byte[] array, long index) {
    int count = count(array);
    if (index < 1 || index > count) {
      return false;
    }
    this.array = array;
    element = (int) index - 1;
    layout = layouts.computeIfAbsent(one.schema().type(0), ArrayLayouts::new).of(count);
    return !layout.isNull(array, 4, element);
  }

  /** The element it is at, of a kind of fixed size. */
  public long slot() {
    return layout.slot(array, 4, element);
  }

  public String text() {
    return layout.stringValue(array, 4, element);
  }

  public BigDecimal decimal() {
    return layout.decimalValue(array, 4, element);
  }

  public byte[] binary() {
    return layout.binaryValue(array, 4, element);
  }

  /**
   * The elements of two arrays of the same kind, one behind the other.
   *
   * @param one a layout of one element
   * @param a null if it has none, as b
   */
  public byte[] concatenate(RowLayout one, byte[] a, byte[] b) {
    if (a == null || b == null) {
      return a == null ? b : a;
    }
    ArrayLayouts known = layouts.computeIfAbsent(one.schema().type(0), ArrayLayouts::new);
    int first = count(a);
    int second = count(b);
    RowLayout from = known.of(first);
    RowWriter elements = begin(known.of(first + second));
    for (int i = 0; i < first; i++) {
      elements.copy(i, from, a, 4, i);
    }
    from = known.of(second);
    for (int i = 0; i < second; i++) {
      elements.copy(first + i, from, b, 4, i);
    }
    return end(elements);
  }

  /**
   * Begins an array of so many elements.
   *
   * @param one a layout of one element
   */
  public RowWriter begin(RowLayout one, int count) {
    return begin(layouts.computeIfAbsent(one.schema().type(0), ArrayLayouts::new).of(count));
  }

  /** Begins an array. */
  public static RowWriter begin(RowLayout layout) {
    RowWriter elements = new RowWriter(layout, 64);
    elements.begin();
    return elements;
  }

  /** The array of the elements that were written. */
  public static byte[] end(RowWriter elements) {
    int length = elements.finish();
    byte[] array = new byte[4 + length];
    Bytes.putInt(array, 0, elements.layout().columns());
    System.arraycopy(elements.bytes(), elements.start(), array, 4, length);
    return array;
  }
}
