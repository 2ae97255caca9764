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
  private long rows;
  private long bytes;

  /** Keeps a copy of a delta. */
  void add(long input, Page delta) {
    Page copy = new Page(delta.layout(), delta.size());
    copy.appendAll(delta);
    synchronized (this) {
      waiting.add(new Delta(input, copy));
      rows += copy.size();
      bytes += copy.heapBytes();
    }
  }

  /** Gives everything that waits, oldest first; answers how many rows it was. */
  long drain(BiConsumer<Long, Page> sink) {
    List<Delta> taken;
    long takenRows;
    synchronized (this) {
      taken = waiting;
      takenRows = rows;
      waiting = new ArrayList<>();
      rows = 0;
      bytes = 0;
    }
    taken.forEach(d -> sink.accept(d.input, d.page));
    return takenRows;
  }

  /** Heap held, in bytes. */
  synchronized long heapBytes() {
    return bytes;
  }
}
