package dripledger.engine.circuit;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.state.StateFormatException;
import java.math.BigDecimal;
import java.util.Arrays;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.Test;

/** Keys as words: equal for equal keys, and the same key again when they are read. */
class GroupKeysTest {
  private static final ColumnType NUMBER = ColumnType.of(ColumnType.Kind.BIGINT);
  private static final ColumnType TEXT = ColumnType.of(ColumnType.Kind.VARCHAR);
  private static final Schema ROW =
      new Schema(
          List.of(
              new Column("a", NUMBER.notNull()),
              new Column("b", NUMBER),
              new Column("t", TEXT),
              new Column("d", ColumnType.decimal(10, 2)),
              new Column("x", ColumnType.of(ColumnType.Kind.DOUBLE))));
  private static final RowLayout LAYOUT = new RowLayout(ROW);

  private static Page row(Object... values) {
    Page page = new Page(LAYOUT);
    BoxedRows.write(page.begin(), values);
    page.commit(1);
    return page;
  }

  private static Page random(Random random) {
    String text =
        switch (random.nextInt(4)) {
          case 0 -> null;
          case 1 -> "";
          case 2 -> "t" + random.nextInt(3);
          default -> "a text that is too long to be kept inline, number " + random.nextInt(3);
        };
    return row(
        (long) random.nextInt(3),
        random.nextBoolean() ? null : (Object) (long) random.nextInt(2),
        text,
        random.nextBoolean() ? null : new BigDecimal("1." + (10 + random.nextInt(3))),
        random.nextBoolean() ? null : (Object) (random.nextInt(3) - 1.0));
  }

  private static long[] words(GroupKeys keys, Page row) {
    long[] words = new long[keys.words()];
    Arrays.fill(words, 77); // whatever was there
    keys.encode(row.bytes(), row.start(0), words, 0);
    return words;
  }

  private static Object[] boxed(GroupKeys keys, long[] words) {
    return BoxedRows.read(keys.layout(), keys.row(words, 0), 0);
  }

  private static Object[] picked(Page row, int... columns) {
    Object[] all = BoxedRows.read(LAYOUT, row.bytes(), row.start(0));
    return Arrays.stream(columns).mapToObj(c -> all[c]).toArray();
  }

  @Test
  void equalKeysHaveEqualWordsAndOthersHaveOthers() {
    for (int[] columns :
        new int[][] {
          {0}, {1}, {0, 1}, {2}, {2, 0}, {1, 2}, {3}, {4, 1}, {3, 4, 0}, {0, 1, 2, 3, 4}
        }) {
      GroupKeys keys = new GroupKeys(LAYOUT, columns);
      Random random = new Random(Arrays.hashCode(columns));
      for (int i = 0; i < 2000; i++) {
        Page one = random(random);
        Page other = random(random);
        boolean same = Arrays.equals(picked(one, columns), picked(other, columns));
        assertThat(Arrays.equals(words(keys, one), words(keys, other)))
            .as(
                "%s and %s",
                Arrays.toString(picked(one, columns)), Arrays.toString(picked(other, columns)))
            .isEqualTo(same);
        assertThat(boxed(keys, words(keys, one))).isEqualTo(picked(one, columns));
      }
    }
  }

  @Test
  void aKeyIsFoundByItsValuesAndByItsRow() {
    GroupKeys keys = new GroupKeys(LAYOUT, new int[] {1, 2});
    Random random = new Random(3);
    for (int i = 0; i < 500; i++) {
      Page row = random(random);
      long[] known = words(keys, row);
      long[] found = new long[keys.words()];
      assertThat(keys.encodeBoxed(picked(row, 1, 2), found)).isTrue();
      assertThat(found).isEqualTo(known);
      assertThat(keys.encodeKey(keys.row(known, 0), 0, found)).isTrue();
      assertThat(found).isEqualTo(known);
      keys.encodeKnown(row.bytes(), row.start(0), found, 0);
      assertThat(found).isEqualTo(known);
    }
  }

  @Test
  void aLongKeyThatNobodyHasHasNoWords() {
    GroupKeys keys = new GroupKeys(LAYOUT, new int[] {2});
    Object[] text = {"a text that is too long to be kept inline, and new"};
    long[] words = new long[keys.words()];
    assertThat(keys.encodeBoxed(text, words)).isFalse();
    Page row = row(1L, null, text[0], null, null);
    long[] known = words(keys, row);
    assertThat(keys.encodeBoxed(text, words)).isTrue();
    assertThat(words).isEqualTo(known);
    keys.release(known, 0);
    assertThat(keys.encodeBoxed(text, words)).isFalse();
    long before = keys.heapBytes();
    for (int i = 0; i < 1000; i++) { // the place is used again
      keys.release(words(keys, row), 0);
    }
    assertThat(keys.heapBytes()).isEqualTo(before);
  }

  @Test
  void whatIsSavedIsTheSameKeyAgain() {
    for (int[] columns : new int[][] {{0}, {0, 1}, {2}, {4, 2}}) {
      GroupKeys keys = new GroupKeys(LAYOUT, columns);
      GroupKeys later = new GroupKeys(LAYOUT, columns);
      Random random = new Random(5);
      for (int i = 0; i < 500; i++) {
        Page row = random(random);
        byte[] saved = keys.saved(words(keys, row), 0);
        byte[] among = new byte[saved.length + 3];
        System.arraycopy(saved, 0, among, 2, saved.length);
        long[] restored = new long[later.words()];
        later.restore(among, 2, saved.length, restored);
        assertThat(boxed(later, restored)).isEqualTo(picked(row, columns));
      }
    }
    GroupKeys fixed = new GroupKeys(LAYOUT, new int[] {0, 1});
    assertThatThrownBy(() -> fixed.restore(new byte[5], 0, 5, new long[fixed.words()]))
        .isInstanceOf(StateFormatException.class);
  }

  @Test
  void onlyOneColumnThatIsNeverNullIsPlain() {
    assertThat(new GroupKeys(LAYOUT, new int[] {0}).plainColumn()).isZero();
    assertThat(new GroupKeys(LAYOUT, new int[] {1}).plainColumn()).isEqualTo(-1);
    assertThat(new GroupKeys(LAYOUT, new int[] {2}).plainColumn()).isEqualTo(-1);
    assertThat(new GroupKeys(LAYOUT, new int[] {0, 1}).plainColumn()).isEqualTo(-1);
    assertThat(new GroupKeys(LAYOUT, new int[0]).words()).isOne();
  }

  @Test
  void aKeyIsWrittenIntoARowAtAnyPlace() {
    GroupKeys keys = new GroupKeys(LAYOUT, new int[] {2, 1});
    Page row = row(4L, 9L, "hall", null, null);
    Schema wide = new Schema(List.of(ROW.column(0), ROW.column(2), ROW.column(1), ROW.column(0)));
    RowWriter out = new RowWriter(new RowLayout(wide), 64);
    out.begin();
    out.setLong(0, 1);
    keys.write(words(keys, row), 0, out, 1);
    out.setLong(3, 2);
    out.finish();
    assertThat(BoxedRows.read(out.layout(), out.bytes(), out.start()))
        .containsExactly(1L, "hall", 9L, 2L);
  }

  /** The same keys, of columns at other places of other rows. */
  @Test
  void keysOfOtherRowsAreTheSame() {
    GroupKeys keys = new GroupKeys(LAYOUT, new int[] {0, 2});
    Schema other = new Schema(List.of(ROW.column(2), ROW.column(4), ROW.column(0)));
    RowLayout layout = new RowLayout(other);
    GroupKeys over = keys.over(layout, new int[] {2, 0});
    for (String text : new String[] {"short", "a text that is too long to be kept inline at all"}) {
      Page page = new Page(layout);
      BoxedRows.write(page.begin(), new Object[] {text, 1.5, 6L});
      page.commit(1);
      long[] words = new long[over.words()];
      over.encode(page.bytes(), page.start(0), words, 0);
      assertThat(words).isEqualTo(words(keys, row(6L, null, text, null, null)));
    }
  }
}
