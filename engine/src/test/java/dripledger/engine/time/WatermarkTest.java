package dripledger.engine.time;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.util.List;
import java.util.stream.LongStream;
import org.junit.jupiter.api.Test;

class WatermarkTest {
  @Test
  void itIsTheHighestTimeLessTheLateness() {
    Watermark watermark = new Watermark(30, 60_000);
    assertThat(watermark.micros()).isEqualTo(Watermark.NONE);
    watermark.observe(0, page(100L), 0, 0);
    assertThat(watermark.micros()).isEqualTo(70);
    watermark.observe(0, page(70L), 0, 0); // just in time
    assertThat(watermark.late()).isZero();
    watermark.observe(0, page(69L), 0, 0);
    assertThat(watermark.late()).isEqualTo(1);
    watermark.observe(0, page(90L), 0, 0);
    assertThat(watermark.micros()).isEqualTo(70);
    watermark.observe(0, page(200L), 0, 0);
    assertThat(watermark.micros()).isEqualTo(170);
  }

  @Test
  void overPartitionsItIsTheLowestThatIsNotSilent() {
    Watermark watermark = new Watermark(10, 1000);
    watermark.expect(1, 0);
    watermark.observe(0, page(100L), 0, 0);
    assertThat(watermark.micros()).as("nothing is known of 1").isEqualTo(Watermark.NONE);
    watermark.observe(1, page(500L), 0, 0);
    assertThat(watermark.micros()).isEqualTo(90);
    watermark.observe(0, page(300L), 0, 0);
    assertThat(watermark.micros()).isEqualTo(290);
    watermark.observe(1, page(600L), 0, 900);
    assertThat(watermark.micros()).as("the first holds it").isEqualTo(290);
    watermark.advance(1500);
    assertThat(watermark.micros()).as("the first is silent").isEqualTo(590);
    watermark.observe(0, page(400L), 0, 1600);
    assertThat(watermark.micros()).as("it never falls").isEqualTo(590);
    assertThat(watermark.late()).isEqualTo(1);
  }

  @Test
  void itComesBackFromACheckpoint() throws Exception {
    Watermark watermark = new Watermark(10, 1000);
    watermark.expect(3, 0);
    watermark.observe(0, page(100L), 0, 0);
    watermark.observe(3, page(50L), 0, 0);
    java.io.ByteArrayOutputStream bytes = new java.io.ByteArrayOutputStream();
    watermark.save(new java.io.DataOutputStream(bytes));
    Watermark again = new Watermark(10, 1000);
    again.restore(
        new java.io.DataInputStream(new java.io.ByteArrayInputStream(bytes.toByteArray())), 0);
    assertThat(again.micros()).isEqualTo(watermark.micros());
    again.observe(3, page(80L), 0, 0);
    assertThat(again.micros()).as("partition 0 is remembered").isEqualTo(70);
  }

  private static final RowLayout LAYOUT =
      new RowLayout(new Schema(List.of(new Column("at", ColumnType.of(Kind.TIMESTAMP)))));

  private static Page page(Long... times) {
    Page page = new Page(LAYOUT);
    for (Long time : times) {
      if (time == null) {
        page.begin().setNull(0);
      } else {
        page.begin().setLong(0, time);
      }
      page.commit(1);
    }
    return page;
  }

  private static List<Long> marks(Page page) {
    return LongStream.range(0, page.size()).mapToObj(i -> page.mark((int) i)).toList();
  }

  @Test
  void eachEventIsMarkedByItsOwnPartition() {
    Watermark watermark = new Watermark(10, 1000);
    Page one = page(null, 100L, 90L, null, 200L, 150L);
    watermark.observe(0, one, 0, 0);
    assertThat(marks(one)).containsExactly(Page.UNMARKED, 90L, 90L, 90L, 190L, 190L);
    Page other = page(50L, 60L);
    watermark.observe(1, other, 0, 0);
    assertThat(marks(other)).as("whatever the other partition is at").containsExactly(40L, 50L);
    assertThat(watermark.late()).as("150 came after 200, more than 10 behind").isEqualTo(1);
  }

  @Test
  void eventsThatAreReadAgainAreMarkedAsTheyWere() {
    Watermark watermark = new Watermark(10, 1000);
    List<Page> pages = List.of(page(100L, 110L), page(50L, 400L, 60L), page(70L, 500L));
    watermark.observe(0, pages.get(0), 0, 0);
    watermark.observe(1, page(300L), 0, 0);
    watermark.observe(1, page(310L), 0, 900);
    watermark.advance(1100); // partition 0 is set aside
    assertThat(watermark.micros()).isEqualTo(300);
    watermark.observe(0, pages.get(1), 0, 1200);
    assertThat(marks(pages.get(1))).containsExactly(300L, 390L, 390L);
    watermark.observe(0, pages.get(2), 0, 1300);
    assertThat(watermark.returns()).containsExactly(new PartitionMarks.Return(0, 2, 300));

    PartitionMarks again = PartitionMarks.again(10, watermark.returns());
    Page all = new Page(LAYOUT);
    pages.forEach(
        p -> {
          for (int i = 0; i < p.size(); i++) {
            all.append(p.bytes(), p.start(i), p.end(i) - p.start(i), 1);
          }
        });
    again.mark(0, all, 0);
    assertThat(marks(all)).containsExactly(90L, 100L, 300L, 390L, 390L, 390L, 490L);
  }
}
