package dripledger.connectors.file;

import dripledger.connectors.format.FormatException;
import java.io.IOException;
import java.io.RandomAccessFile;
import java.nio.file.Path;
import java.util.Arrays;

/**
 * The lines of a file by bytes; of CSV what a quote holds together. A line is never longer in
 * memory than {@value #MOST_BYTES} bytes, and a quote not open for more than {@value #MOST_QUOTED}:
 * behind that it is a line with a stray quote. Not thread-safe.
 */
final class TextLines implements AutoCloseable {
  private static final int MOST_BYTES = 16 << 20;
  private static final int MOST_QUOTED = 1 << 16;

  private final RandomAccessFile file;
  private final boolean ended;
  private final boolean quotes;
  private byte[] buffer = new byte[1 << 16];
  private int used;
  private int at;
  private long bufferAt;
  private int from;
  private int length;
  private int firstEnd; // of the line moved to: where its first line ends, or −1
  private long skipped; // bytes of it that were not kept
  private boolean open; // a quote, at the end of what there is

  /**
   * @param ended whether the file no longer grows, so that a last line without an end counts
   * @param quotes whether a field in quotes (RFC 4180) may hold ends of lines
   */
  TextLines(Path path, boolean ended, boolean quotes) throws IOException {
    file = new RandomAccessFile(path.toFile(), "r");
    this.ended = ended;
    this.quotes = quotes;
  }

  /** Goes to a place in the file. */
  void seek(long place) {
    bufferAt = place;
    used = 0;
    at = 0;
  }

  /** Moves to the next line; false at the end of what is complete. */
  boolean next() throws IOException {
    firstEnd = -1;
    skipped = 0;
    open = false;
    boolean begins = true; // of a field: only there a quote opens it
    int scan = at;
    while (true) {
      for (; scan < used; scan++) {
        byte b = buffer[scan];
        if (quotes && b == '"' && (open || begins)) {
          open = !open;
          begins = true; // a quote behind a quote is one of the text
        } else if (b == '\n') {
          if (!open) {
            return take(scan, scan + 1);
          }
          firstEnd = firstEnd < 0 ? scan - at : firstEnd;
        } else {
          begins = b == ',';
        }
      }
      if (open && firstEnd >= 0 && used - at > MOST_QUOTED) {
        return takeFirst();
      }
      if (used - at > MOST_BYTES) {
        skipped += used - at - (1 << 16); // its beginning says enough
        bufferAt += used - at - (1 << 16);
        used = at + (1 << 16);
        scan = used;
      }
      int gone = compact();
      scan -= gone;
      file.seek(bufferAt + used);
      int read = file.read(buffer, used, buffer.length - used);
      if (read <= 0) {
        if (!ended || used == 0) {
          return false;
        }
        return unclosed() == null ? take(used, used) : takeFirst();
      }
      used += read;
    }
  }

  private int compact() {
    int gone = at;
    if (at > 0) {
      System.arraycopy(buffer, at, buffer, 0, used - at);
      bufferAt += at;
      used -= at;
      at = 0;
    }
    if (used == buffer.length) {
      buffer = Arrays.copyOf(buffer, buffer.length * 2);
    }
    return gone;
  }

  private boolean take(int end, int next) {
    from = at;
    length = end - at - (end > at && buffer[end - 1] == '\r' ? 1 : 0);
    at = next;
    return true;
  }

  /** What there is behind the last line, where a quote is still open; else null. */
  byte[] unclosed() {
    return open && firstEnd >= 0 ? Arrays.copyOfRange(buffer, at, used) : null;
  }

  /** Takes the first line of what is unclosed: its quote is a stray one. */
  boolean takeFirst() {
    return take(at + firstEnd, at + firstEnd + 1);
  }

  /** Takes only the first line of those that a quote holds together; false if there is but one. */
  boolean cut() {
    if (firstEnd < 0 || skipped > 0 || at <= from + firstEnd + 1) {
      return false;
    }
    at = from;
    return take(from + firstEnd, from + firstEnd + 1);
  }

  /** Where to go on after the line moved to. */
  long position() {
    return bufferAt + at;
  }

  byte[] bytes() {
    return buffer;
  }

  int from() {
    return from;
  }

  int length() {
    return length;
  }

  /** Throws if the line was too long to be kept. */
  void refuseTooLong() {
    if (skipped > 0) {
      throw new FormatException(
          "a line of " + (length + skipped) + " bytes; " + MOST_BYTES + " is the most");
    }
  }

  /** A copy of the line. */
  byte[] copy() {
    return Arrays.copyOfRange(buffer, from, from + length);
  }

  @Override
  public void close() throws IOException {
    file.close();
  }
}
