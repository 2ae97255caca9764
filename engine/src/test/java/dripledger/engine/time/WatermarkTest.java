package dripledger.engine.time;

import static org.assertj.core.api.Assertions.assertThat;

import org.junit.jupiter.api.Test;

class WatermarkTest {
  @Test
  void itIsTheHighestTimeLessTheLateness() {
    Watermark watermark = new Watermark(30, 60_000);
    assertThat(watermark.micros()).isEqualTo(Watermark.NONE);
    watermark.observe(0, 100, 0);
    assertThat(watermark.micros()).isEqualTo(70);
    watermark.observe(0, 70, 0); // just in time
    assertThat(watermark.late()).isZero();
    watermark.observe(0, 69, 0);
    assertThat(watermark.late()).isEqualTo(1);
    watermark.observe(0, 90, 0);
    assertThat(watermark.micros()).isEqualTo(70);
    watermark.observe(0, 200, 0);
    assertThat(watermark.micros()).isEqualTo(170);
  }

  @Test
  void overPartitionsItIsTheLowestThatIsNotSilent() {
    Watermark watermark = new Watermark(10, 1000);
    watermark.expect(1, 0);
    watermark.observe(0, 100, 0);
    assertThat(watermark.micros()).as("nothing is known of 1").isEqualTo(Watermark.NONE);
    watermark.observe(1, 500, 0);
    assertThat(watermark.micros()).isEqualTo(90);
    watermark.observe(0, 300, 0);
    assertThat(watermark.micros()).isEqualTo(290);
    watermark.observe(1, 600, 900);
    assertThat(watermark.micros()).as("the first holds it").isEqualTo(290);
    watermark.advance(1500);
    assertThat(watermark.micros()).as("the first is silent").isEqualTo(590);
    watermark.observe(0, 400, 1600);
    assertThat(watermark.micros()).as("it never falls").isEqualTo(590);
    assertThat(watermark.late()).isEqualTo(1);
  }

  @Test
  void itComesBackFromACheckpoint() throws Exception {
    Watermark watermark = new Watermark(10, 1000);
    watermark.expect(3, 0);
    watermark.observe(0, 100, 0);
    watermark.observe(3, 50, 0);
    java.io.ByteArrayOutputStream bytes = new java.io.ByteArrayOutputStream();
    watermark.save(new java.io.DataOutputStream(bytes));
    Watermark again = new Watermark(10, 1000);
    again.restore(
        new java.io.DataInputStream(new java.io.ByteArrayInputStream(bytes.toByteArray())), 0);
    assertThat(again.micros()).isEqualTo(watermark.micros());
    again.observe(3, 80, 0);
    assertThat(again.micros()).as("partition 0 is remembered").isEqualTo(70);
  }
}
