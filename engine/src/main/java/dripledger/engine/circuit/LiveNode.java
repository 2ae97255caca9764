package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateFormatException;
import dripledger.engine.store.Versions;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.ViewStore;
import java.io.ByteArrayInputStream;
import java.io.ByteArrayOutputStream;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.util.ArrayList;
import java.util.List;
import java.util.function.Consumer;

/**
 * A relation or a follower in the live graph: what it is fed by and where its delta goes. Built by
 * whoever defines it, then owned by the epoch loop; the figures may be read from any thread.
 */
public final class LiveNode {
  private static final byte FIGURES_VERSION = 2;

  private final long id;
  private final String name;
  private final Circuit circuit;
  private final ViewStore store;
  private final Listener listener;
  private final Page input;
  private final int eventTime;
  private final Watermark watermark;
  private final KeyedInput keyed;
  private int[] key;
  private Page delta;

  private volatile long changes;
  private volatile long lastEpoch;
  private volatile long watermarkMicros = Watermark.NONE;
  private volatile long late;
  private volatile long stateBytes;
  private volatile long stateKeys;
  private volatile long rejected;
  private volatile String failure;
  private volatile boolean stoppedBySource;
  private volatile boolean loading;
  private volatile FillBuffer filling;
  private Consumer<Page> filled = page -> {};

  /** Told of a node's delta at the end of each epoch that has one, on the loop's thread. */
  public interface Listener {
    /** The page must not be kept. */
    void changed(long epoch, Page delta);

    /** Nothing more will come. */
    default void ended(String reason) {}
  }

  private LiveNode(
      long id,
      String name,
      RowLayout layout,
      Circuit circuit,
      ViewStore store,
      Listener listener,
      int eventTime,
      Watermark watermark,
      KeyedInput keyed) {
    this.id = id;
    this.name = name;
    this.circuit = circuit;
    this.store = store;
    this.listener = listener;
    this.input = circuit == null ? new Page(layout) : null;
    this.eventTime = eventTime;
    this.watermark = watermark;
    this.keyed = keyed;
  }

  /**
   * A stream: keeps nothing but its figures.
   *
   * @param eventTime a column or −1
   * @param idleMillis how long a silent partition holds the watermark back
   */
  public static LiveNode stream(
      long id, String name, RowLayout layout, int eventTime, long latenessMicros, long idleMillis) {
    return new LiveNode(
        id,
        name,
        layout,
        null,
        null,
        null,
        eventTime,
        new Watermark(latenessMicros, idleMillis),
        null);
  }

  /** A table changed by statements: it is fed its delta. */
  public static LiveNode table(long id, String name, RowLayout layout, ViewStore store) {
    return new LiveNode(id, name, layout, null, store, null, -1, null, null);
  }

  /**
   * A table that follows a source: it is fed operations on its keys.
   *
   * @param key the columns of its key
   */
  public static LiveNode keyedTable(
      long id, String name, RowLayout layout, int[] key, ViewStore store) {
    return new LiveNode(
        id, name, layout, null, store, null, -1, null, new KeyedInput(layout.schema(), key, store));
  }

  /**
   * A view: its rows are read from the circuit's state if that can be, else they are kept.
   *
   * @param key the columns its rows are ordered by, or null for all
   */
  public static LiveNode view(long id, String name, Circuit circuit, Schema schema, int[] key) {
    ViewStore store = circuit.isStored() ? null : new ViewStore(schema, key);
    LiveNode node = new LiveNode(id, name, null, circuit, store, null, -1, null, null);
    node.key = key;
    return node;
  }

  /** Somebody who is told of every change to a query's answer. */
  public static LiveNode follower(Circuit circuit, Listener listener) {
    return new LiveNode(-1, "a follower", null, circuit, null, listener, -1, null, null);
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

  /** The rows kept apart from operator state, or null. */
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

  /** Messages for it that were not taken. */
  public long rejected() {
    return rejected;
  }

  /** Whether its source ended it: its rows stay right as of that moment. */
  public boolean stoppedBySource() {
    return stoppedBySource;
  }

  /** Where the partitions of a stream stand; empty for others. Safe from any thread. */
  public List<Watermark.PartitionMark> partitions(long nowMillis) {
    if (watermark == null) {
      return List.of();
    }
    synchronized (watermark) {
      return watermark.partitions(nowMillis);
    }
  }

  /** Why it no longer takes part in epochs, or null if it does. */
  public String failure() {
    return failure;
  }

  // ---- the rest is for the epoch loop

  /**
   * Makes this a node that is being filled: what its inputs change is kept until {@link
   * EpochLoop#live}. Before it is attached.
   *
   * @param sink takes what the circuit puts out meanwhile
   */
  public void fill(Consumer<Page> sink) {
    filled = sink;
    filling = new FillBuffer();
  }

  /** Whether it is being filled and takes no part in epochs yet. */
  public boolean isFilling() {
    return filling != null;
  }

  /**
   * Takes in what has been kept so far; by whoever fills the node.
   *
   * @return how many rows it was
   */
  public long catchUp() {
    long rows = filling.drain(circuit::feed);
    filled.accept(circuit.flush());
    circuit.clearOutput();
    return rows;
  }

  /** Takes in the rest, and is filled. */
  void drain() {
    catchUp();
    filling = null;
    filled = page -> {};
  }

  /** Takes in a delta of an input, or keeps it. */
  void feed(long input, Page page) {
    if (filling != null) {
      filling.add(input, page);
    } else {
      circuit.feed(input, page);
    }
  }

  /** The relation as just published, or null for one that keeps no rows. */
  RelationVersion version(long version) {
    if (store != null) {
      return store.version();
    }
    return id >= 0 && circuit != null ? circuit.version(key, version) : null;
  }

  /** Takes its place in a graph: from now on its state changes by the graph's clock. */
  void join(Versions graph) {
    if (circuit != null && id >= 0) {
      circuit.join(graph);
      circuit.rowsWanted(false);
    }
  }

  /** Is in no graph any more. */
  void leave() {
    if (circuit != null && id >= 0) {
      circuit.leave();
    }
  }

  /** Whether somebody is told of what this relation's changes change. */
  boolean follows(long relationId) {
    return listener != null && circuit.inputs().contains(relationId);
  }

  void take(Page page, int partition, long nowMillis) {
    changes += page.size();
    boolean sameColumns = page.layout().columns() == input.layout().columns();
    if (keyed != null && !sameColumns) {
      delta = input;
      keyed.take(page);
      return;
    }
    if (delta == null && keyed == null && sameColumns) {
      delta = page; // handed over, and read as it is if it stays the only one of the epoch
    } else {
      if (delta != input && delta != null) {
        input.appendAll(delta);
      }
      delta = input;
      input.appendAll(page);
    }
    if (eventTime >= 0) {
      synchronized (watermark) {
        watermark.expect(partition, nowMillis);
        for (int i = 0; i < page.size(); i++) {
          if (!page.layout().isNull(page.bytes(), page.start(i), eventTime)) {
            watermark.observe(
                partition, page.layout().slot(page.bytes(), page.start(i), eventTime), nowMillis);
          }
        }
      }
      late = watermark.late();
    }
  }

  /** Ends the taking of one epoch, before anything reads the delta. */
  void taken() {
    if (keyed != null && delta != null) {
      keyed.flush(input);
    }
  }

  void advanceWatermark(long nowMillis) {
    if (eventTime >= 0) {
      synchronized (watermark) {
        watermark.advance(nowMillis);
      }
      watermarkMicros = watermark.micros();
    }
  }

  void rejected(int more) {
    rejected += more;
  }

  Page delta() {
    return delta;
  }

  /** Ends the epoch for a node that has been fed. */
  void step(long epoch) {
    boolean changed;
    if (circuit != null) {
      delta = circuit.flush();
      changed = circuit.changed() > 0;
      changes += circuit.changed();
    } else {
      changed = !delta.isEmpty();
    }
    if (store != null) {
      store.apply(delta);
      if (circuit == null) {
        store.refuseDuplicates(delta);
      }
    }
    if (changed) {
      lastEpoch = epoch;
    }
    measure();
  }

  /** Heap of operator state and published rows after the last epoch, in bytes. */
  long heldBytes() {
    FillBuffer buffer = filling;
    return stateBytes
        + (store == null ? 0 : store.heapBytes())
        + (buffer == null ? 0 : buffer.heapBytes());
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
    if (failure == null || stoppedBySource) {
      failure = reason;
      stoppedBySource = false;
      if (listener != null) {
        listener.ended(reason);
      }
    }
  }

  void stopBySource(String reason) {
    failure = reason;
    stoppedBySource = true;
  }

  /** What saved state must have been made by to be of use: the plan, or the columns of a table. */
  public String planPrint() {
    return circuit != null
        ? circuit.fingerprint()
        : store == null ? "" : store.version().schema().columns().toString();
  }

  /** Takes no part in epochs from the start, for a reason. */
  public void giveUp(String reason) {
    fail(reason);
  }

  /** Says whether its rows are still to come: until then it takes nothing in and is not saved. */
  public void loading(boolean value) {
    loading = value;
  }

  /** Whether its rows are still to come. */
  public boolean isLoading() {
    return loading;
  }

  /** Takes part again after its source had ended it. */
  public void goOn() {
    failure = null;
    stoppedBySource = false;
    loading = false;
  }

  /** The state a checkpoint saves besides {@link #figures}. */
  List<Durable> durable() {
    List<Durable> parts = new ArrayList<>();
    if (circuit != null) {
      parts.addAll(circuit.durable());
    }
    if (store != null && (circuit == null || !circuit.derivable())) {
      parts.add(store.durable());
    }
    return parts;
  }

  /** Everything else a checkpoint saves, in a form of its own. */
  byte[] figures() {
    ByteArrayOutputStream bytes = new ByteArrayOutputStream();
    try (DataOutputStream out = new DataOutputStream(bytes)) {
      out.writeByte(FIGURES_VERSION);
      out.writeLong(changes);
      out.writeLong(lastEpoch);
      out.writeLong(rejected);
      out.writeBoolean(stoppedBySource);
      out.writeUTF(stoppedBySource ? failure : "");
      if (watermark != null) {
        watermark.save(out);
      }
      if (circuit != null) {
        circuit.rejects().save(out);
      }
    } catch (IOException e) {
      throw new UncheckedIOException(e); // an array has no input or output to fail
    }
    return bytes.toByteArray();
  }

  /**
   * Becomes what a checkpoint saved; before it is attached.
   *
   * @param parts chunks of each of {@link #durable}
   * @throws StateFormatException if this release does not read it
   */
  public void restore(byte[] figures, List<List<byte[]>> parts, long nowMillis) {
    List<Durable> durable = durable();
    if (figures.length == 0 || figures[0] != FIGURES_VERSION || durable.size() != parts.size()) {
      throw new StateFormatException("figures of another release");
    }
    for (int i = 0; i < parts.size(); i++) {
      durable.get(i).restore(parts.get(i));
    }
    if (circuit != null) {
      circuit.restored();
      if (store != null && circuit.derivable()) {
        circuit.restate(store::apply);
      }
    }
    try (DataInputStream in = new DataInputStream(new ByteArrayInputStream(figures))) {
      in.readByte();
      changes = in.readLong();
      lastEpoch = in.readLong();
      rejected = in.readLong();
      stoppedBySource = in.readBoolean();
      String reason = in.readUTF();
      failure = stoppedBySource ? reason : null;
      if (watermark != null) {
        watermark.restore(in, nowMillis);
        watermarkMicros = watermark.micros();
        late = watermark.late();
      }
      if (circuit != null) {
        circuit.rejects().restore(in);
      }
    } catch (IOException e) {
      throw new StateFormatException("figures that end too early");
    }
    measure();
  }

  /** Takes over the figures of the node it replaces, whose relation has got another column. */
  public void takeOver(LiveNode older, long nowMillis) {
    restore(older.figures(), List.of(), nowMillis);
  }
}
