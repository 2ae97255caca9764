package dripledger.engine.delivery;

import dripledger.engine.circuit.ChangeListener;
import dripledger.engine.row.Page;
import dripledger.engine.row.PageCodec;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Durable;
import dripledger.engine.state.Spool;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.nio.ByteBuffer;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.List;
import java.util.UUID;

/**
 * What waits to be delivered: what each epoch changed, in order, on disk and in checkpoints. Only
 * what a committed checkpoint holds is given out, so that a batch that has arrived anywhere is
 * never made again with other rows. Safe from any thread.
 */
public final class Outbox implements ChangeListener {
  private static final int PIECE_ROWS = 20_000; // of what is there first
  private static final int HEADER = 24; // epoch, when it was put in, rows, bytes of those that stay

  private final RowLayout layout;
  private final boolean expires;
  private final long maxBytes;
  private final Spool spool;
  private String identity = UUID.randomUUID().toString();
  private long held; // records before it are in a committed checkpoint
  private long rows;
  private long oldestMillis; // of what waits
  private String over; // why nothing more comes, or null; for ever
  private long capturedRows; // that waited when it was captured
  private boolean closed;

  /**
   * A record as it waits.
   *
   * @param expired rows that went because their time was over
   */
  record Waiting(long number, long epoch, Page rows, Page expired) {}

  /**
   * @param expires whether it is carried that rows' time is over; otherwise they stay at the target
   * @param directory where what waits is kept
   * @param maxBytes how much may wait; beyond it the delivery ends
   */
  public Outbox(RowLayout layout, boolean expires, Path directory, long maxBytes) {
    this.layout = layout;
    this.expires = expires;
    this.maxBytes = maxBytes;
    spool = new Spool(directory);
  }

  // ---- what comes

  /**
   * What was there when the delivery was made.
   *
   * @param carried whether it is carried too
   */
  public synchronized void filled(Page page, boolean carried) {
    for (int from = 0; carried && from < page.size(); from += PIECE_ROWS) {
      Page piece = new Page(layout);
      for (int i = from; i < Math.min(page.size(), from + PIECE_ROWS); i++) {
        piece.append(page.bytes(), page.start(i), page.end(i) - page.start(i), page.weight(i));
      }
      put(0, piece);
    }
  }

  @Override
  public synchronized void changed(long epoch, Page delta) {
    if (over != null) {
      return;
    }
    if (spool.bytes() > maxBytes) {
      over =
          "more than "
              + (maxBytes < 1 << 20 ? maxBytes + " bytes" : (maxBytes >> 20) + " MiB")
              + " wait for the target (drip.max-waiting-bytes); make the sink again";
      return;
    }
    put(epoch, delta);
  }

  private void put(long epoch, Page page) {
    Page stay = page;
    Page expired = new Page(layout);
    if (page.isMarked()) {
      stay = new Page(layout, page.size());
      for (int i = 0; i < page.size(); i++) {
        boolean gone = page.mark(i) == Page.EXPIRED && page.weight(i) < 0;
        if (!gone || expires) {
          int length = page.end(i) - page.start(i);
          (gone ? expired : stay).append(page.bytes(), page.start(i), length, page.weight(i));
        }
      }
    }
    int size = stay.size() + expired.size();
    if (size == 0 || closed) {
      return;
    }
    byte[] first = PageCodec.encode(stay);
    byte[] second = expired.isEmpty() ? new byte[0] : PageCodec.encode(expired);
    long now = System.currentTimeMillis();
    ByteBuffer out = ByteBuffer.allocate(HEADER + first.length + second.length);
    out.putLong(epoch).putLong(now).putInt(size).putInt(first.length).put(first).put(second);
    if (spool.end() == spool.first()) {
      oldestMillis = now;
    }
    spool.put(out.array());
    rows += size;
    notifyAll();
  }

  @Override
  public synchronized void ended(String reason) {
    over = over == null ? reason : over;
    notifyAll();
  }

  // ---- what is given out

  /** What tells this delivery from every other, also from one of the same name before it. */
  synchronized String identity() {
    return identity;
  }

  /**
   * What may be delivered now, in order; perhaps nothing.
   *
   * @param from the number of the first
   * @param maxRows of all together, but for the first
   * @param maxBytes the same, of their records
   */
  synchronized List<Waiting> take(long from, int maxRows, long maxBytes) {
    List<Waiting> taken = new ArrayList<>();
    long[] count = new long[2];
    spool.read(
        from,
        record -> {
          long number = Math.max(from, spool.first()) + taken.size();
          ByteBuffer in = ByteBuffer.wrap(record);
          int size = in.getInt(16);
          boolean enough = count[0] + size > maxRows || count[1] + record.length > maxBytes;
          if (number >= held || count[0] > 0 && enough) {
            return false;
          }
          long epoch = in.getLong();
          byte[] first = new byte[in.getInt(20)];
          in.position(HEADER).get(first);
          byte[] second = new byte[in.remaining()];
          in.get(second);
          taken.add(new Waiting(number, epoch, decoded(first), decoded(second)));
          count[0] += size;
          count[1] += record.length;
          return true;
        });
    return taken;
  }

  private Page decoded(byte[] encoded) {
    Page page = new Page(layout);
    if (encoded.length > 0) {
      PageCodec.decode(encoded, page, i -> true);
    }
    return page;
  }

  /** Lets go of what has arrived: everything before a number. */
  synchronized void arrived(long next) {
    while (spool.first() < next && spool.first() < spool.end()) {
      ByteBuffer in = ByteBuffer.wrap(spool.take());
      rows -= in.getInt(16);
    }
    findOldest();
    notifyAll();
  }

  private void findOldest() {
    spool.read(
        0,
        record -> {
          oldestMillis = ByteBuffer.wrap(record).getLong(8);
          return false;
        });
  }

  /** The number that the next record gets. */
  synchronized long end() {
    return spool.end();
  }

  /** The number of the first record that waits. */
  synchronized long first() {
    return spool.first();
  }

  /** Whether something waits that no checkpoint holds yet. */
  synchronized boolean waitsForCheckpoint() {
    return spool.end() > Math.max(held, spool.first());
  }

  /** Whether something waits that may be delivered. */
  synchronized boolean hasHeld() {
    return !closed && spool.first() < Math.min(held, spool.end());
  }

  /** Waits until something changes here, or some time has passed. */
  synchronized void await(long millis) throws InterruptedException {
    wait(millis);
  }

  synchronized void wake() {
    notifyAll();
  }

  /** Why nothing more comes, or null. */
  synchronized String over() {
    return over;
  }

  /** Rows that wait. */
  synchronized long rows() {
    return rows;
  }

  /** What waits on disk, in bytes. */
  synchronized long bytes() {
    return spool.bytes();
  }

  /** Since when the oldest of what waits does, in milliseconds since 1970; 0 if nothing waits. */
  synchronized long since() {
    return spool.first() == spool.end() ? 0 : oldestMillis;
  }

  /** Lets go of everything. */
  public synchronized void close() {
    closed = true;
    spool.close();
    notifyAll();
  }

  // ---- what outlives the process

  @Override
  public Durable durable() {
    return new Durable() {
      @Override
      public Capture capture(boolean whole) {
        synchronized (Outbox.this) {
          long until = spool.end();
          capturedRows = rows;
          Capture capture = closed ? null : spool.capture(whole);
          return capture == null ? null : new Held(capture, until);
        }
      }

      @Override
      public void restore(Chunks chunks) {
        spool.restore(chunks);
      }
    };
  }

  /** What a checkpoint takes of it: once that is committed, it may be given out. */
  private final class Held implements Durable.Capture {
    private final Durable.Capture records;
    private final long until;

    Held(Durable.Capture records, long until) {
      this.records = records;
      this.until = until;
    }

    @Override
    public void encode(Durable.ChunkSink sink) {
      records.encode(sink);
    }

    @Override
    public void committed() {
      synchronized (Outbox.this) {
        held = Math.max(held, until);
        Outbox.this.notifyAll();
      }
    }

    @Override
    public void close() {
      records.close();
    }
  }

  @Override
  public synchronized void save(DataOutputStream out) throws IOException {
    out.writeUTF(identity);
    out.writeLong(spool.end());
    out.writeLong(capturedRows);
    out.writeUTF(over == null ? "" : over);
  }

  @Override
  public synchronized void restore(DataInputStream in) throws IOException {
    identity = in.readUTF();
    held = in.readLong();
    spool.goOnAt(held);
    rows = in.readLong();
    String reason = in.readUTF();
    over = reason.isEmpty() ? null : reason;
    findOldest();
  }
}
