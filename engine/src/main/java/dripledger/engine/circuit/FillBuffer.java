package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import java.util.ArrayList;
import java.util.List;
import java.util.function.BiConsumer;

/**
 * What the inputs of a node changed while it was filled from an earlier epoch, in their order. The
 * epoch loop adds, whoever fills takes. Its bytes count as held, so inputs slow down when it grows
 * large. Thread-safe.
 */
final class FillBuffer {
  private record Delta(long input, Page page) {}

  private List<Delta> waiting = new ArrayList<>();
  private List<Delta> marked = List.of();
  private long bytes;

  /** Keeps a copy of a delta. */
  void add(long input, Page delta) {
    Page copy = new Page(delta.layout(), delta.size());
    copy.appendAll(delta);
    synchronized (this) {
      waiting.add(new Delta(input, copy));
      bytes += copy.heapBytes();
    }
  }

  /** Says that what waits now is what is taken next; by the epoch loop. */
  synchronized void mark() {
    marked = waiting;
    waiting = new ArrayList<>();
  }

  /** What was marked of one input, oldest first. */
  synchronized List<Page> of(long input) {
    return marked.stream().filter(d -> d.input == input).map(Delta::page).toList();
  }

  /** Gives everything that was marked, oldest first, and forgets it; answers how many rows. */
  long drain(BiConsumer<Long, Page> sink) {
    List<Delta> taken;
    synchronized (this) {
      taken = marked;
      marked = List.of();
    }
    long rows = 0;
    for (Delta delta : taken) {
      sink.accept(delta.input, delta.page);
      rows += delta.page.size();
      synchronized (this) {
        bytes -= delta.page.heapBytes();
      }
    }
    return rows;
  }

  /** Heap held, in bytes. */
  synchronized long heapBytes() {
    return bytes;
  }
}
