package dripledger.server.health;

import static org.assertj.core.api.Assertions.assertThat;

import io.micrometer.prometheusmetrics.PrometheusConfig;
import io.micrometer.prometheusmetrics.PrometheusMeterRegistry;
import java.util.concurrent.atomic.AtomicBoolean;
import java.util.concurrent.atomic.AtomicReference;
import org.junit.jupiter.api.Test;

/** Gauges of things that come and go, read while they do. */
class TaggedGaugesTest {
  private final PrometheusMeterRegistry registry =
      new PrometheusMeterRegistry(PrometheusConfig.DEFAULT);
  private final TaggedGauges gauges = new TaggedGauges(registry);

  private void look(int first, int end) {
    for (int i = first; i < end; i++) {
      gauges.set("drip.view.rows", "rows shown", "view", "view" + i, i + end / 1000.0);
    }
    gauges.show();
  }

  @Test
  void whatIsGoneIsShownNoMoreAndWhatStaysHasItsNewValue() {
    look(0, 3);
    assertThat(registry.scrape())
        .contains("drip_view_rows{view=\"view0\"} 0.003", "{view=\"view2\"} 2.003");
    look(1, 4);
    assertThat(registry.scrape())
        .doesNotContain("view0")
        .contains("{view=\"view1\"} 1.004", "{view=\"view3\"} 3.004");
    look(0, 0);
    assertThat(registry.scrape()).doesNotContain("view=");
    look(1, 2);
    assertThat(registry.scrape()).contains("{view=\"view1\"} 1.002");
  }

  @Test
  void whoReadsMeanwhileMeetsEachOnce() throws Exception {
    look(0, 1);
    AtomicBoolean reading = new AtomicBoolean(true);
    AtomicReference<Throwable> wrong = new AtomicReference<>();
    Thread reader =
        new Thread(
            () -> {
              try {
                while (reading.get()) {
                  assertThat(registry.scrape()).containsOnlyOnce("view=\"view0\"");
                }
              } catch (Throwable e) {
                wrong.set(e);
              }
            });
    reader.start();
    for (int i = 0; i < 20_000 && wrong.get() == null; i++) {
      look(0, 1 + i % 2);
    }
    reading.set(false);
    reader.join();
    assertThat(wrong.get()).isNull();
  }
}
