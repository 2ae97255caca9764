package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.state.Durable;
import dripledger.engine.state.StateFormatException;
import dripledger.engine.store.Versions;
import dripledger.engine.time.Arrival;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.RelationVersion;
import java.io.ByteArrayInputStream;
import java.io.ByteArrayOutputStream;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.util.List;
import java.util.concurrent.atomic.AtomicLong;

/**
 * A node of the live graph: something that is fed and shows what has changed. Built by whoever
 * defines it, then owned by the epoch loop; the figures may be read from any thread.
 */
public abstract sealed class LiveNode permits InputNode, QueryNode {
  private static final byte FIGURES_VERSION = 6;

  /** The number of nodes that nobody else reads. */
  public static final long NO_NUMBER = 0;

  private static final AtomicLong INSTANCES = new AtomicLong();

  private final long instance = INSTANCES.incrementAndGet();
  private final long id;
  private final String name;
  private volatile long changes;
  private volatile long lastEpoch;
  private volatile long watermarkMicros = Watermark.NONE;
  private volatile long rejected;
  private volatile String failure;
  private volatile boolean stoppedBySource;
  private volatile boolean loading;
  private volatile List<int[]> orders = List.of();
  private final Arrival arrival = new Arrival();

  LiveNode(long id, String name) {
    this.id = id;
    this.name = name;
  }

  /** Positive for what was defined, negative for a step that views share. */
  public final long id() {
    return id;
  }

  public final String name() {
    return name;
  }

  /**
   * This very node, in this process: one that is made again has the same number, and is another.
   */
  public final long instance() {
    return instance;
  }

  /** When what this epoch shows of it came in. The loop's thread. */
  public final Arrival arrival() {
    return arrival;
  }

  /** Changes taken in (stream, table) or made (view) since the process started. */
  public final long changes() {
    return changes;
  }

  /** The last epoch that changed it, 0 if none has yet. */
  public final long lastEpoch() {
    return lastEpoch;
  }

  /** Microseconds since 1970, or {@link Watermark#NONE} or {@link Watermark#TIMELESS}. */
  public final long watermarkMicros() {
    return watermarkMicros;
  }

  /** Messages for it that were not taken. */
  public final long rejected() {
    return rejected;
  }

  /** Whether its source ended it: its rows stay right as of that moment. */
  public final boolean stoppedBySource() {
    return stoppedBySource;
  }

  /** Why it no longer takes part in epochs, or null if it does. */
  public final String failure() {
    return failure;
  }

  /** Whether its rows are still to come. */
  public final boolean isLoading() {
    return loading;
  }

  /** Says whether its rows are still to come: until then it takes nothing in and is not saved. */
  public final void loading(boolean value) {
    loading = value;
  }

  /** Takes no part in epochs from here on, for a reason. */
  public void fail(String reason) {
    if (failure == null || stoppedBySource) {
      failure = reason;
      stoppedBySource = false;
    }
  }

  /** Takes part again after its source had ended it. */
  public final void resume() {
    failure = null;
    stoppedBySource = false;
    loading = false;
  }

  /** By which columns its rows are found, besides the key. */
  public final List<int[]> orders() {
    return orders;
  }

  // ---- the rest is for the epoch loop

  /** Says by which columns its rows are found, besides the key. */
  public final void orders(List<int[]> columns) {
    orders = List.copyOf(columns);
    setOrders(orders);
  }

  abstract void setOrders(List<int[]> columns);

  /** Its source has ended it: its rows stay, and it takes nothing in. */
  public final void stopBySource(String reason) {
    failure = reason;
    stoppedBySource = true;
  }

  /** Counts messages for it that were not taken. The loop's thread. */
  public final void countRejected(int more) {
    rejected += more;
  }

  final void countChanges(long more) {
    changes += more;
  }

  final void changedIn(long epoch) {
    lastEpoch = epoch;
  }

  final void watermark(long micros) {
    watermarkMicros = micros;
  }

  /** Takes its place in a graph: from now on its state changes by the graph's clock. */
  public abstract void join(Versions graph);

  /** Is in no graph any more. */
  public abstract void leave();

  /** What changed in this epoch so far, or null; owned by the node. */
  public abstract Page delta();

  /** Forgets what changed: the epoch is published, and everybody told. */
  public abstract void endEpoch();

  /** The relation as just published, or null for one that keeps no rows. */
  public abstract RelationVersion version(long version);

  /** How each of its rows is found by its key where it is kept; null if it is not. */
  public abstract KeyedRows byKey();

  /** Heap of state and rows after the last epoch, in bytes. */
  public abstract long heldBytes();

  /** What saved state must have been made by to be of use: the plan, or the columns of a table. */
  public abstract String planPrint();

  /** The state a checkpoint saves besides {@link #figures}, always in the same order. */
  public abstract List<Durable> durable();

  /** Writes what only this kind of node has. */
  abstract void saveOwn(DataOutputStream out) throws IOException;

  /** Reads what {@link #saveOwn} wrote, once the durable parts are there. */
  abstract void restoreOwn(DataInputStream in, long nowMillis) throws IOException;

  /** Everything but the durable parts that a checkpoint saves. */
  public final byte[] figures() {
    ByteArrayOutputStream bytes = new ByteArrayOutputStream();
    try (DataOutputStream out = new DataOutputStream(bytes)) {
      out.writeByte(FIGURES_VERSION);
      out.writeLong(changes);
      out.writeLong(lastEpoch);
      out.writeLong(rejected);
      out.writeBoolean(stoppedBySource);
      out.writeUTF(stoppedBySource ? failure : "");
      saveOwn(out);
    } catch (IOException e) {
      throw new UncheckedIOException(e); // an array has no input or output to fail
    }
    return bytes.toByteArray();
  }

  /**
   * Becomes what a checkpoint saved; before it is attached.
   *
   * @param parts chunks of each durable part
   * @throws StateFormatException if this release does not read it
   */
  public final void restore(byte[] figures, List<Durable.Chunks> parts, long nowMillis) {
    List<Durable> durable = durable();
    if (figures.length == 0 || figures[0] != FIGURES_VERSION || durable.size() != parts.size()) {
      throw new StateFormatException("figures of another release");
    }
    for (int i = 0; i < parts.size(); i++) {
      durable.get(i).restore(parts.get(i));
    }
    restoreFigures(figures, nowMillis);
  }

  final void restoreFigures(byte[] figures, long nowMillis) {
    try (DataInputStream in = new DataInputStream(new ByteArrayInputStream(figures))) {
      in.readByte();
      changes = in.readLong();
      lastEpoch = in.readLong();
      rejected = in.readLong();
      stoppedBySource = in.readBoolean();
      String reason = in.readUTF();
      failure = stoppedBySource ? reason : null;
      restoreOwn(in, nowMillis);
    } catch (IOException e) {
      throw new StateFormatException("figures that end too early");
    }
  }
}
