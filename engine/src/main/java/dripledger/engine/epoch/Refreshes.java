package dripledger.engine.epoch;

import dripledger.engine.circuit.LiveNode;
import dripledger.engine.circuit.QueryNode;
import dripledger.engine.circuit.Refresher;
import dripledger.engine.time.Arrival;
import java.util.ArrayList;
import java.util.List;
import java.util.Objects;
import java.util.function.BiConsumer;
import java.util.stream.Stream;

/**
 * The views that are refreshed from time to time, among the nodes of a graph. What must not fall
 * between two pieces of a refresh waits for those that run, and no other begins meanwhile. The
 * loop's thread.
 */
final class Refreshes {
  private final List<LiveNode> nodes; // the graph's own
  private final List<Runnable> held = new ArrayList<>();
  private volatile boolean may = true;

  Refreshes(List<LiveNode> nodes) {
    this.nodes = nodes;
  }

  /** Whether one may begin. */
  boolean mayBegin() {
    return may;
  }

  /** Whether there is something to be done in the next epoch. */
  boolean isBusy() {
    return refreshers().anyMatch(r -> r.isRunning() || may && r.isBusy());
  }

  /** Whether one has begun and has not ended. */
  boolean isHalfway() {
    return refreshers().anyMatch(Refresher::isRunning);
  }

  private Stream<Refresher> refreshers() {
    return nodes.stream()
        .filter(n -> n instanceof QueryNode q && !q.isFilling() && q.failure() == null)
        .map(n -> ((QueryNode) n).refresher())
        .filter(Objects::nonNull);
  }

  /** Runs an action now, or as soon as none is halfway. */
  void whenNone(Runnable action) {
    held.add(action);
    may = false;
    ended();
  }

  /** An epoch has ended. */
  void ended() {
    if (!may && !isHalfway()) {
      held.forEach(Runnable::run);
      held.clear();
      may = true;
    }
  }

  /**
   * Tells of each view that what came in is shown now.
   *
   * @param sink given its number and when that was
   */
  void arrivals(BiConsumer<Long, Arrival> sink) {
    for (LiveNode node : nodes) {
      if (node instanceof QueryNode
          && node.id() > LiveNode.NO_NUMBER
          && node.arrival().oldestMicros() != Arrival.NONE) {
        sink.accept(node.id(), node.arrival());
      }
    }
  }
}
