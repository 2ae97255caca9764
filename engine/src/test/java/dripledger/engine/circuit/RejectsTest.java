package dripledger.engine.circuit;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.io.ByteArrayInputStream;
import java.io.ByteArrayOutputStream;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.util.List;
import org.junit.jupiter.api.Test;

class RejectsTest {
  private static final RowLayout LAYOUT =
      new RowLayout(
          Schema.of(
              new Column("k", ColumnType.of(Kind.INTEGER)),
              new Column("s", ColumnType.varchar(-1))));

  private final Rejects rejects = new Rejects();
  private final int place = rejects.place("compute 1 / k", LAYOUT);

  private void add(int k, String text, long weight) {
    add(rejects, k, text, weight);
  }

  private void add(Rejects to, int k, String text, long weight) {
    Page page = new Page(LAYOUT);
    BoxedRows.write(page.begin(), new Object[] {(long) k, text});
    page.commit(1);
    to.add(place, page.bytes(), page.start(0), weight, new ArithmeticException("division by zero"));
  }

  private static List<String> shown(Rejects rejects) {
    return rejects.rows().stream()
        .map(
            r ->
                r.weight()
                    + " x "
                    + java.util.Arrays.toString(BoxedRows.read(r.layout(), r.row(), 0))
                    + " at "
                    + r.step()
                    + ": "
                    + r.reason())
        .toList();
  }

  @Test
  void aRowIsGoneWhenItIsTakenOut() {
    add(1, "a", 1);
    add(2, "b", 2);
    add(1, "a", -1);
    add(2, "b", -1);
    assertThat(rejects.count()).isEqualTo(1);
    assertThat(shown(rejects)).containsExactly("1 x [2, b] at compute 1 / k: division by zero");
    assertThat(rejects.reasons()).containsExactly("division by zero");
  }

  @Test
  void takenOutBeforePutInIsNothing() {
    add(1, "a", -1);
    assertThat(shown(rejects)).isEmpty();
    add(1, "a", 1);
    assertThat(rejects.count()).isZero();
    assertThat(shown(rejects)).isEmpty();
    add(2, "b", 1);
    add(1, "a", -1); // none in all for a moment, and yet one of them is there
    add(1, "a", 1);
    assertThat(shown(rejects)).containsExactly("1 x [2, b] at compute 1 / k: division by zero");
  }

  @Test
  void moreThanTheBoundIsOnlyCounted() {
    for (int i = 0; i < Rejects.KEPT + 50; i++) {
      add(i, "x", 1);
    }
    assertThat(rejects.count()).isEqualTo(Rejects.KEPT + 50);
    assertThat(rejects.rows()).hasSize(Rejects.KEPT);
    // What was never kept leaves no trace when it goes; what was makes room.
    for (int i = Rejects.KEPT + 49; i >= 10; i--) {
      add(i, "x", -1);
    }
    assertThat(rejects.count()).isEqualTo(10);
    assertThat(rejects.rows()).hasSize(10);
    add(1000, "y".repeat(Rejects.KEPT_BYTES), 1);
    assertThat(rejects.count()).isEqualTo(11);
    assertThat(rejects.rows()).hasSize(10);
  }

  @Test
  void whatIsSavedComesBack() throws IOException {
    add(1, "a", 3);
    add(2, null, 1);
    ByteArrayOutputStream bytes = new ByteArrayOutputStream();
    rejects.save(new DataOutputStream(bytes));
    Rejects again = new Rejects();
    again.place("compute 1 / k", LAYOUT);
    again.restore(new DataInputStream(new ByteArrayInputStream(bytes.toByteArray())));
    assertThat(shown(again)).isEqualTo(shown(rejects));
    assertThat(again.rows().get(0).atMillis()).isEqualTo(rejects.rows().get(0).atMillis());
    add(again, 1, "a", -3);
    assertThat(again.count()).isEqualTo(1);
    assertThat(shown(again)).containsExactly("1 x [2, null] at compute 1 / k: division by zero");
  }
}
