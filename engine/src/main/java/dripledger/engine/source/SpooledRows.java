package dripledger.engine.source;

import dripledger.engine.row.Page;
import dripledger.engine.row.PageCodec;
import dripledger.engine.row.RowLayout;
import dripledger.engine.state.Spool;
import java.nio.ByteBuffer;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Iterator;
import java.util.List;
import java.util.function.Consumer;

/**
 * Rows of one input that are too many to wait in memory, on disk in the order they came. Filled by
 * one thread, then handed over and read once by another.
 */
public final class SpooledRows {
  private static final int PIECE_ROWS = 4096;

  private final Spool spool;
  private final RowLayout layout;
  private final List<Integer> pieces = new ArrayList<>(); // rows in each record
  private int rows;
  private long micros = Page.UNMARKED;

  /**
   * @param directory where the files are, without names
   */
  public SpooledRows(RowLayout layout, Path directory) {
    this.layout = layout;
    spool = new Spool(directory);
  }

  /**
   * Adds the rows of a page, with their marks.
   *
   * @throws java.io.UncheckedIOException if the disk does not take them
   */
  public void add(Page page) {
    for (int from = 0; from < page.size(); from += PIECE_ROWS) {
      Page piece = new Page(layout);
      for (int i = from; i < Math.min(page.size(), from + PIECE_ROWS); i++) {
        piece.append(page.bytes(), page.start(i), page.end(i) - page.start(i), page.weight(i));
      }
      byte[] encoded = PageCodec.encode(piece);
      ByteBuffer record = ByteBuffer.allocate(piece.size() * Long.BYTES + encoded.length);
      for (int i = from; i < from + piece.size(); i++) {
        record.putLong(page.mark(i));
      }
      spool.put(record.put(encoded).array());
      pieces.add(piece.size());
    }
    rows += page.size();
  }

  /** Says when the rows without a mark were made, in microseconds since 1970. */
  public void madeAt(long madeMicros) {
    micros = madeMicros;
  }

  /** How many rows there are. */
  public int rows() {
    return rows;
  }

  /** What they take on disk, in bytes. */
  public long bytes() {
    return spool.bytes();
  }

  /** Gives the rows in pages that the sink may keep, marked with when they were made. */
  public void read(Consumer<Page> sink) {
    Iterator<Integer> sizes = pieces.iterator();
    spool.read(
        spool.first(),
        record -> {
          ByteBuffer in = ByteBuffer.wrap(record);
          long[] marks = new long[sizes.next()];
          in.asLongBuffer().get(marks);
          byte[] encoded = Arrays.copyOfRange(record, marks.length * Long.BYTES, record.length);
          Page page = new Page(layout);
          PageCodec.decode(encoded, page, i -> true);
          for (int i = 0; i < marks.length; i++) {
            page.mark(i, marks[i] == Page.UNMARKED ? micros : marks[i]);
          }
          sink.accept(page);
          return true;
        });
  }

  /** Lets go of the files. */
  public void release() {
    spool.close();
  }
}
