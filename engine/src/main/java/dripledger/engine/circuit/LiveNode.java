package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.ViewStore;

/**
 * A relation or a follower in the live graph: what it is fed by and where its delta goes. Built by
 * whoever defines it, then owned by the epoch loop; the figures may be read from any thread.
 */
public final class LiveNode {
  private final long id;
  private final String name;
  private final Circuit circuit;
  private final ViewStore store;
  private final Listener listener;
  private final Page input;
  private final int eventTime;
  private final Watermark watermark;
  private Page delta;

  private volatile long changes;
  private volatile long lastEpoch;
  private volatile long watermarkMicros = Watermark.NONE;
  private volatile long late;
  private volatile long stateBytes;
  private volatile long stateKeys;
  private volatile String failure;

  /** Told of a node's delta at the end of each epoch that has one, on the loop's thread. */
  @FunctionalInterface
  public interface Listener {
    /** The page must not be kept. */
    void changed(long epoch, Page delta);
  }

  private LiveNode(
      long id,
      String name,
      RowLayout layout,
      Circuit circuit,
      ViewStore store,
      Listener listener,
      int eventTime,
      Watermark watermark) {
    this.id = id;
    this.name = name;
    this.circuit = circuit;
    this.store = store;
    this.listener = listener;
    this.input = circuit == null ? new Page(layout) : null;
    this.eventTime = eventTime;
    this.watermark = watermark;
  }

  /** A stream: keeps nothing but its figures. {@code eventTime} is a column or −1. */
  public static LiveNode stream(
      long id, String name, RowLayout layout, int eventTime, long latenessMicros) {
    return new LiveNode(
        id, name, layout, null, null, null, eventTime, new Watermark(latenessMicros));
  }

  public static LiveNode table(long id, String name, RowLayout layout, ViewStore store) {
    return new LiveNode(id, name, layout, null, store, null, -1, null);
  }

  public static LiveNode view(long id, String name, Circuit circuit, ViewStore store) {
    return new LiveNode(id, name, null, circuit, store, null, -1, null);
  }

  /** Somebody who is told of every change to a query's answer. */
  public static LiveNode follower(Circuit circuit, Listener listener) {
    return new LiveNode(-1, "a follower", null, circuit, null, listener, -1, null);
  }

  public long id() {
    return id;
  }

  public String name() {
    return name;
  }

  /** The circuit, or null for a stream or table. */
  public Circuit circuit() {
    return circuit;
  }

  /** The rows kept, or null for a stream or follower. */
  public ViewStore store() {
    return store;
  }

  /** Changes taken in (stream, table) or made (view) since the process started. */
  public long changes() {
    return changes;
  }

  /** The last epoch that changed it, 0 if none has yet. */
  public long lastEpoch() {
    return lastEpoch;
  }

  /** Microseconds since 1970, or {@link Watermark#NONE}. */
  public long watermarkMicros() {
    return watermarkMicros;
  }

  /** Events from behind the watermark. */
  public long late() {
    return late;
  }

  /** Heap of the operators' state after the last epoch, in bytes. */
  public long stateBytes() {
    return stateBytes;
  }

  public long stateKeys() {
    return stateKeys;
  }

  /** Why it no longer takes part in epochs, or null if it does. */
  public String failure() {
    return failure;
  }

  // ---- the rest is for the epoch loop

  void take(Page page) {
    input.appendAll(page);
    changes += page.size();
    if (eventTime >= 0) {
      for (int i = 0; i < page.size(); i++) {
        if (!page.layout().isNull(page.bytes(), page.start(i), eventTime)) {
          watermark.observe(page.layout().slot(page.bytes(), page.start(i), eventTime));
        }
      }
      watermarkMicros = watermark.micros();
      late = watermark.late();
    }
    delta = input;
  }

  Page delta() {
    return delta;
  }

  /** Ends the epoch for a node that has been fed. */
  void step(long epoch) {
    if (circuit != null) {
      delta = circuit.flush();
      changes += delta.size();
    }
    if (store != null) {
      store.apply(delta);
    }
    if (!delta.isEmpty()) {
      lastEpoch = epoch;
    }
    measure();
  }

  /** Heap of operator state and published rows after the last epoch, in bytes. */
  long heldBytes() {
    return stateBytes + (store == null ? 0 : store.heapBytes());
  }

  void measure() {
    if (circuit != null) {
      stateBytes = circuit.stateBytes();
      stateKeys = circuit.stateKeys();
    }
  }

  void tell(long epoch) {
    if (listener != null && delta != null && !delta.isEmpty()) {
      listener.changed(epoch, delta);
    }
  }

  void endEpoch() {
    if (delta != null) {
      if (circuit != null) {
        circuit.clearOutput();
      } else {
        input.clear();
      }
      delta = null;
    }
  }

  void fail(String reason) {
    failure = reason;
  }
}
