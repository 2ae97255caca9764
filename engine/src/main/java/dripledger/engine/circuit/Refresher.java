package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.PageCodec;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.state.Spool;
import dripledger.engine.time.Arrival;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.nio.ByteBuffer;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/**
 * Lets a view take in what its inputs change when it is asked to, and not as it comes. Until then
 * the changes wait on disk. A refresh takes in what waited when it was asked for, a piece in each
 * epoch, so that others go on meanwhile; what has come of it is shown by one epoch, the last.
 *
 * <p>The rows that a refresh shows are those of the epoch it was asked in: it knows the watermark
 * and the current time of that. No checkpoint falls into a refresh, see {@link
 * dripledger.engine.epoch.EpochLoop#capture}. The loop's thread, but for the figures.
 */
public final class Refresher {
  private static final int PIECE_ROWS = 20_000;
  private static final int BUFFER_BYTES = 256 << 10;
  private static final int HEADER = 13; // input, rows, whether they are marked

  private final Circuit circuit;
  private final Spool spool;
  private final long maxBytes;
  private final Map<Long, Page> buffers = new LinkedHashMap<>(); // by input, what came last
  private final NetChanges net;
  private final Page log; // instead of net, if rows only ever come
  private final List<Refreshed.Listener> asking = new ArrayList<>();
  private final List<Refreshed.Listener> listeners = new ArrayList<>(); // of the one that runs
  private boolean asked = true; // what is new shows what it was filled from
  private boolean running;
  private String over; // why there will be no more, or null
  private long until; // the number in the spool that a refresh goes up to
  private Epoch target = Epoch.OUTSIDE; // of the refresh that runs, or ran last
  private Epoch before = Epoch.OUTSIDE; // what its circuit was told last
  private final Arrival waiting = new Arrival(); // of what waits
  private final Arrival taken = new Arrival(); // of what the refresh takes in
  private long beganNanos;
  private long beganMicros;
  private long read;
  private long lateBefore;
  private long rejectsBefore;
  private volatile long waitingRows;
  private volatile long waitingBytes;
  private volatile long waitsSince = Arrival.NONE;
  private volatile long lastMicros = Arrival.NONE; // when the last refresh was asked for

  /**
   * What may wait for a view.
   *
   * @param directory where it is
   * @param maxBytes beyond it the view is to be refreshed
   */
  public record Bounds(Path directory, long maxBytes) {}

  /**
   * @param grows whether rows only ever come
   */
  Refresher(Circuit circuit, RowLayout result, boolean grows, Bounds bounds) {
    this.circuit = circuit;
    maxBytes = bounds.maxBytes();
    spool = new Spool(bounds.directory());
    net = grows ? null : new NetChanges(result);
    log = grows ? new Page(result) : null;
  }

  // ---- what waits

  /** Puts a delta of an input behind what waits. */
  void add(long input, Page delta) {
    Page buffer = buffers.computeIfAbsent(input, id -> new Page(circuit.layout(id)));
    buffer.appendAll(delta);
    waitingRows += delta.size();
    if (buffer.byteSize() > BUFFER_BYTES) {
      put(input, buffer);
    }
    waitingBytes = spool.bytes() + buffers.values().stream().mapToLong(Page::byteSize).sum();
  }

  /** Says when what its inputs have been given in this epoch arrived. */
  void arrived(Arrival arrival) {
    waiting.add(arrival);
    waitsSince = waiting.oldestMicros();
  }

  private void put(long input, Page rows) {
    if (rows.isEmpty()) {
      return;
    }
    byte[] encoded = PageCodec.encode(rows);
    int marks = rows.isMarked() ? rows.size() : 0;
    ByteBuffer out = ByteBuffer.allocate(HEADER + marks * 8 + encoded.length);
    out.putLong(input).putInt(rows.size()).put((byte) (marks > 0 ? 1 : 0));
    for (int i = 0; i < marks; i++) {
      out.putLong(rows.mark(i));
    }
    out.put(encoded);
    spool.put(out.array());
    rows.clear();
  }

  private void putBuffers() {
    buffers.forEach(this::put);
  }

  private int feedRecord() {
    ByteBuffer in = ByteBuffer.wrap(spool.take());
    long input = in.getLong();
    int rows = in.getInt();
    long[] marks = new long[in.get() == 0 ? 0 : rows];
    for (int i = 0; i < marks.length; i++) {
      marks[i] = in.getLong();
    }
    byte[] encoded = new byte[in.remaining()];
    in.get(encoded);
    Page page = new Page(circuit.layout(input), rows);
    PageCodec.decode(encoded, page, i -> true);
    for (int i = 0; i < marks.length; i++) {
      page.mark(i, marks[i]);
    }
    circuit.feed(input, page);
    return rows;
  }

  // ---- refreshes

  /** Asks for a refresh. One that runs does not take in what has come since; another follows. */
  public void ask(Refreshed.Listener listener) {
    if (over != null) {
      listener.failed(over);
      return;
    }
    asked = true;
    asking.add(listener);
  }

  /** Whether there is something to be done now. */
  public boolean isBusy() {
    return asked || running;
  }

  /** Whether it is between two pieces. */
  public boolean isRunning() {
    return running;
  }

  /**
   * Goes on with what is to be done.
   *
   * @param nowMicros the time of day
   * @param begin whether a refresh may begin
   * @return what the view shows from this epoch on, or null if it stays as it was
   */
  Page step(Epoch epoch, long nowMicros, boolean begin) {
    if (!running && asked && begin) {
      begin(epoch, nowMicros);
    }
    if (!running) {
      return null;
    }
    int rows = 0;
    while (rows < PIECE_ROWS && spool.first() < until) {
      rows += feedRecord();
    }
    read += rows;
    waitingRows -= rows;
    boolean last = spool.first() >= until;
    Epoch as = last ? target : before;
    Page piece =
        circuit.flush(
            new Epoch(epoch.number(), as.watermarkMicros(), epoch.nowMillis(), as.currentMicros()));
    if (net == null) {
      log.appendAll(piece);
    } else {
      net.add(piece);
    }
    circuit.clearOutput();
    if (!last) {
      return null;
    }
    before = target;
    running = false;
    lastMicros = beganMicros;
    waitingBytes = spool.bytes() + buffers.values().stream().mapToLong(Page::byteSize).sum();
    return net == null ? log : net.take();
  }

  private void begin(Epoch epoch, long nowMicros) {
    asked = false;
    running = true;
    listeners.addAll(asking);
    asking.clear();
    putBuffers();
    until = spool.end();
    target = epoch;
    taken.clear();
    taken.add(waiting);
    waiting.clear();
    waitsSince = Arrival.NONE;
    beganNanos = System.nanoTime();
    beganMicros = nowMicros;
    read = 0;
    lateBefore = late();
    rejectsBefore = circuit.rejects().count();
  }

  private long late() {
    return circuit.late().values().stream().mapToLong(LateRows::count).sum();
  }

  /** Tells who asked for the refresh that has just ended. */
  void tell(long epoch, Page delta, long rowsBefore) {
    long added = 0;
    long removed = 0;
    for (int i = 0; i < delta.size(); i++) {
      added += Math.max(0, delta.weight(i));
      removed -= Math.min(0, delta.weight(i));
    }
    Refreshed what =
        new Refreshed(
            beganMicros,
            read,
            added,
            removed,
            rowsBefore - removed,
            late() - lateBefore,
            circuit.rejects().count() - rejectsBefore,
            System.nanoTime() - beganNanos);
    listeners.forEach(listener -> listener.done(what, epoch));
    listeners.clear();
  }

  /** What has been shown is told; it is forgotten. */
  void forgetShown() {
    if (log != null && !running) {
      log.clear();
    }
  }

  void fail(String reason) {
    over = reason;
    listeners.addAll(asking);
    asking.clear();
    listeners.forEach(listener -> listener.failed(reason));
    listeners.clear();
    asked = false;
    running = false;
  }

  /** Lets go of what waits. */
  void close() {
    fail("it was dropped or replaced");
    spool.close();
  }

  // ---- figures; from any thread

  /** The epoch whose rows are shown. */
  Epoch shown() {
    return before;
  }

  /** When what is shown newly arrived. */
  Arrival arrival() {
    return taken;
  }

  /** Rows of inputs that wait. */
  public long waitingRows() {
    return waitingRows;
  }

  /** What waits on disk, in bytes. */
  public long waitingBytes() {
    return waitingBytes;
  }

  /** Whether more waits than may. */
  public boolean isFull() {
    return waitingBytes > maxBytes;
  }

  /** When the oldest of what waits arrived, in microseconds since 1970, or {@link Arrival#NONE}. */
  public long waitsSince() {
    return waitsSince;
  }

  /** When the last refresh was asked for, in microseconds since 1970, or {@link Arrival#NONE}. */
  public long lastMicros() {
    return lastMicros;
  }

  /** Heap held, in bytes. */
  long heapBytes() {
    long bytes = net == null ? log.heapBytes() : net.heapBytes();
    for (Page buffer : buffers.values()) {
      bytes += buffer.heapBytes();
    }
    return bytes;
  }

  // ---- what outlives the process

  /** What waits, all of it in the spool now. */
  Durable durable() {
    return new Durable() {
      @Override
      public Capture capture(boolean whole) {
        putBuffers();
        return spool.capture(whole);
      }

      @Override
      public void restore(Chunks chunks) {
        spool.restore(chunks);
      }
    };
  }

  void save(DataOutputStream out) throws IOException {
    out.writeLong(waitingRows);
    out.writeLong(waiting.oldestMicros());
    out.writeLong(waiting.newestEventMicros());
    out.writeLong(lastMicros);
    out.writeBoolean(asked);
  }

  /**
   * @param shown the epoch whose rows are shown
   */
  void restore(DataInputStream in, Epoch shown) throws IOException {
    waitingRows = in.readLong();
    waiting.add(in.readLong(), in.readLong());
    waitsSince = waiting.oldestMicros();
    lastMicros = in.readLong();
    asked = in.readBoolean();
    before = shown;
    waitingBytes = spool.bytes();
  }
}
