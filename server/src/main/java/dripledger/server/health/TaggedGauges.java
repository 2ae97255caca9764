package dripledger.server.health;

import io.micrometer.core.instrument.MeterRegistry;
import io.micrometer.core.instrument.MultiGauge;
import io.micrometer.core.instrument.Tags;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/**
 * Gauges of things that come and go. What stays keeps its gauge from one look to the next: if it
 * were registered anew, who reads at that moment might meet it twice, which is an error. Used by
 * one thread; the gauges are read by any.
 */
final class TaggedGauges {
  private final MeterRegistry registry;
  private final Map<String, MultiGauge> gauges = new LinkedHashMap<>();
  private final Map<String, List<MultiGauge.Row<?>>> rows = new LinkedHashMap<>();
  private Map<List<String>, Value> before = new HashMap<>();
  private Map<List<String>, Value> now = new HashMap<>();

  private static final class Value {
    volatile double value;
  }

  TaggedGauges(MeterRegistry registry) {
    this.registry = registry;
  }

  /** Sets a gauge of one thing, until the next {@link #show}. */
  void set(String name, String text, String tag, String of, double value) {
    gauges.computeIfAbsent(name, n -> MultiGauge.builder(n).description(text).register(registry));
    List<String> key = List.of(name, of);
    Value held = before.getOrDefault(key, new Value());
    held.value = value;
    if (now.put(key, held) == null) {
      rows.computeIfAbsent(name, n -> new ArrayList<>())
          .add(MultiGauge.Row.of(Tags.of(tag, of), held, v -> v.value));
    }
  }

  /** Shows what was set since the last time, and nothing else. */
  void show() {
    gauges.forEach(
        (name, gauge) -> gauge.register(List.copyOf(rows.getOrDefault(name, List.of())), false));
    rows.clear();
    before = now;
    now = new HashMap<>();
  }
}
