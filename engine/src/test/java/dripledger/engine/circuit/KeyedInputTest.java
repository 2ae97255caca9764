package dripledger.engine.circuit;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.source.KeyedRows;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Random;
import java.util.TreeMap;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

class KeyedInputTest {
  private static final Schema PARCEL =
      Schema.of(
          new Column("id", ColumnType.of(Kind.BIGINT).notNull()),
          new Column("area", ColumnType.varchar(-1)),
          new Column("note", ColumnType.varchar(-1)));

  private final KeptRows store = KeptRows.unique(PARCEL, new int[] {0});
  private final KeyedInput input = new KeyedInput(PARCEL, new int[] {0}, store);
  private final Page operations = new Page(new RowLayout(KeyedRows.schema(PARCEL)));

  private void operation(int what, Long id, String area, String note, boolean keepsNote) {
    byte[] keep = keepsNote ? new byte[] {0, 0, 1} : null;
    BoxedRows.write(operations.begin(), id, area, note, (long) what, keep);
    operations.commit(1);
  }

  /** Ends the epoch; answers the delta as text. */
  private List<String> flush() {
    input.take(operations);
    operations.clear();
    Page delta = new Page(new RowLayout(PARCEL));
    input.flush(delta);
    store.apply(delta);
    List<String> changes = new ArrayList<>();
    for (int i = 0; i < delta.size(); i++) {
      changes.add(
          (delta.weight(i) > 0 ? "+" : "-")
              + Arrays.toString(BoxedRows.read(delta.layout(), delta.bytes(), delta.start(i))));
    }
    return changes;
  }

  @Test
  void anEpochsOperationsOnAKeyAreOneChange() {
    operation(KeyedRows.PUT, 1L, "N", "a", false);
    operation(KeyedRows.PUT, 1L, "S", "b", false);
    assertThat(flush()).containsExactly("+[1, S, b]");
    operation(KeyedRows.PUT, 1L, "E", "c", false);
    operation(KeyedRows.PUT, 1L, "S", "b", false);
    assertThat(flush()).as("it is as it was").isEmpty();
    operation(KeyedRows.DELETE, 1L, null, null, false);
    operation(KeyedRows.DELETE, 9L, null, null, false);
    assertThat(flush()).containsExactly("-[1, S, b]");
  }

  @Test
  void whatWasNotSentIsKept() {
    operation(KeyedRows.PUT, 1L, "N", "long text", false);
    flush();
    operation(KeyedRows.PUT, 1L, "S", null, true);
    assertThat(flush()).containsExactly("-[1, N, long text]", "+[1, S, long text]");
    operation(KeyedRows.DELETE, 1L, null, null, false);
    operation(KeyedRows.PUT_MOVED, 2L, "S", null, true);
    assertThat(flush()).containsExactly("-[1, S, long text]", "+[2, S, long text]");
    operation(KeyedRows.PUT, 5L, "W", null, true);
    assertThat(flush()).as("there is nothing to keep").containsExactly("+[5, W, null]");
  }

  /** Random operations against a map; a clear takes out all rows, also those of this epoch. */
  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3, 4})
  void equalsAMap(long seed) {
    Random random = new Random(seed);
    TreeMap<Long, String> model = new TreeMap<>();
    for (int epoch = 0; epoch < 300; epoch++) {
      for (int i = random.nextInt(12); i > 0; i--) {
        long id = random.nextInt(20);
        String area = "A" + random.nextInt(4);
        int dice = random.nextInt(30);
        if (dice == 0) {
          operation(KeyedRows.CLEAR, null, null, null, false);
          model.clear();
        } else if (dice < 10) {
          operation(KeyedRows.DELETE, id, null, null, false);
          model.remove(id);
        } else if (dice < 15) {
          operation(KeyedRows.PUT, id, area, null, true);
          String note = model.containsKey(id) ? model.get(id).split("/")[1] : "null";
          model.put(id, area + "/" + note);
        } else {
          operation(KeyedRows.PUT, id, area, "n" + i, false);
          model.put(id, area + "/n" + i);
        }
      }
      flush();
      TreeMap<Long, String> found = new TreeMap<>();
      store
          .version()
          .range(
              null,
              null,
              false,
              (bytes, at) -> {
                Object[] row = BoxedRows.read(new RowLayout(PARCEL), bytes, at);
                found.put((Long) row[0], row[1] + "/" + row[2]);
                return true;
              });
      assertThat(found).as("seed %d, epoch %d", seed, epoch).isEqualTo(model);
    }
  }
}
