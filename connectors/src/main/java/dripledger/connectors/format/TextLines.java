package dripledger.connectors.format;

import java.io.IOException;
import java.util.Arrays;

/**
 * The lines of a text by bytes; of CSV what a quote holds together. A quote is not open for more
 * than {@value #MOST_QUOTED} bytes: beyond that the line has a stray one. Not thread-safe.
 */
public final class TextLines {
  private static final int MOST_QUOTED = 1 << 16;
  private static final int SHOWN_BYTES = 1 << 10; // of a line that is too long

  private final Bytes in;
  private final int mostBytes;
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
  private long number; // of the line moved to
  private long nextNumber = 1;

  /** Where the bytes come from. */
  @FunctionalInterface
  public interface Bytes {
    /**
     * Reads on.
     *
     * @param place of the first byte wanted; what cannot go elsewhere is always asked in order
     * @return how many bytes it has put in, or −1 at the end
     */
    int read(long place, byte[] into, int at, int room) throws IOException;
  }

  /**
   * @param mostBytes the longest line that is kept; of a longer one only the beginning is
   * @param ended whether the text no longer grows, so that a last line without an end counts
   * @param quotes whether a field in quotes (RFC 4180) may hold ends of lines
   */
  public TextLines(Bytes in, int mostBytes, boolean ended, boolean quotes) {
    this.in = in;
    this.mostBytes = mostBytes;
    this.ended = ended;
    this.quotes = quotes;
  }

  /** Goes to a place. */
  public void seek(long place) {
    bufferAt = place;
    used = 0;
    at = 0;
  }

  /** Moves to the next line; false at the end of what is complete. */
  public boolean next() throws IOException {
    number = nextNumber;
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
      if (used - at > mostBytes) {
        int left = used - at - SHOWN_BYTES;
        skipped += left;
        bufferAt += left;
        used -= left;
        scan = used;
      }
      int gone = compact();
      scan -= gone;
      int read = in.read(bufferAt + used, buffer, used, buffer.length - used);
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
    nextNumber = number + 1;
    for (int i = from; firstEnd >= 0 && i < end; i++) {
      nextNumber += buffer[i] == '\n' ? 1 : 0;
    }
    return true;
  }

  /** The number of the line moved to, from 1 on; counted from where reading began. */
  public long number() {
    return number;
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
  public long position() {
    return bufferAt + at;
  }

  public byte[] bytes() {
    return buffer;
  }

  public int from() {
    return from;
  }

  public int length() {
    return length;
  }

  /** Throws if the line was too long to be kept. */
  public void refuseTooLong() {
    if (skipped > 0) {
      throw new FormatException(
          "the line has " + (length + skipped) + " bytes; " + mostBytes + " is the most");
    }
  }

  /** A copy of the line. */
  public byte[] copy() {
    return Arrays.copyOfRange(buffer, from, from + length);
  }
}
