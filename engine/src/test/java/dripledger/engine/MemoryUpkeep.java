package dripledger.engine;

import dripledger.engine.upkeep.UpkeepHistory;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.function.Consumer;

/** The history of upkeep in memory. */
final class MemoryUpkeep implements UpkeepHistory {
  private final List<Run> runs = new ArrayList<>();
  private final Map<String, Minute> minutes = new TreeMap<>();

  @Override
  public synchronized void add(List<Run> more, List<Minute> moreMinutes) {
    runs.addAll(more);
    moreMinutes.forEach(m -> minutes.put(m.at() + "/" + m.viewId(), m));
  }

  @Override
  public synchronized void runs(Consumer<Run> sink) {
    runs.forEach(sink);
  }

  @Override
  public synchronized void minutes(Consumer<Minute> sink) {
    minutes.values().forEach(sink);
  }
}
