package dripledger.engine.time;

import static org.assertj.core.api.Assertions.assertThat;

import org.junit.jupiter.api.Test;

class WatermarkTest {
  @Test
  void itIsTheHighestTimeLessTheLateness() {
    Watermark watermark = new Watermark(30);
    assertThat(watermark.micros()).isEqualTo(Watermark.NONE);
    watermark.observe(100);
    assertThat(watermark.micros()).isEqualTo(70);
    watermark.observe(70); // just in time
    assertThat(watermark.late()).isZero();
    watermark.observe(69);
    assertThat(watermark.late()).isEqualTo(1);
    watermark.observe(90);
    assertThat(watermark.micros()).isEqualTo(70);
    watermark.observe(200);
    assertThat(watermark.micros()).isEqualTo(170);
  }
}
