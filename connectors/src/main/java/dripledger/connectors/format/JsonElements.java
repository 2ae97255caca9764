package dripledger.connectors.format;

import java.io.IOException;
import java.io.InputStream;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;
import java.util.BitSet;

/**
 * The elements of one JSON array (RFC 8259), cut out of its text one after the other, so that each
 * can be refused with its own bytes. Where one does not end as it should, the next line that is not
 * indented more than it, and begins with a brace, is taken for the next. Not thread-safe.
 */
final class JsonElements {
  private final InputStream in;
  private final int mostBytes;
  private byte[] buffer = new byte[1 << 16];
  private int used;
  private int at;
  private int from;
  private int length;
  private int indent; // columns in front of the element in its line
  private int column; // of what is at the place
  private final BitSet braces = new BitSet(); // of what is open: a brace and not a bracket
  private String broken;
  private boolean over;

  /**
   * @param in at the array's bracket, or at space before it
   * @param mostBytes of an element
   */
  JsonElements(InputStream in, int mostBytes) {
    this.in = in;
    this.mostBytes = mostBytes;
  }

  /** The byte at a place of the buffer, or −1 at the end of the text. */
  private int at(int place) throws IOException {
    while (place >= used) {
      if (used == buffer.length) {
        buffer = Arrays.copyOf(buffer, buffer.length * 2);
      }
      int read = in.read(buffer, used, buffer.length - used);
      if (read <= 0) {
        return -1;
      }
      used += read;
    }
    return buffer[place];
  }

  private void drop() {
    System.arraycopy(buffer, at, buffer, 0, used - at);
    used -= at;
    at = 0;
  }

  /** Goes behind the bracket that opens the array; false if there is none. */
  boolean begin() throws IOException {
    return space() && buffer[at] == '[' && step();
  }

  private boolean step() {
    column = buffer[at] == '\n' ? 0 : column + 1;
    at++;
    return true;
  }

  /** Passes over space; false at the end of the text. */
  private boolean space() throws IOException {
    for (int b = at(at); b >= 0 && b <= ' '; b = at(at)) {
      step();
    }
    return at(at) >= 0;
  }

  /** Moves to the next element; false behind the last. */
  boolean next() throws IOException {
    broken = null;
    drop();
    while (!over && space() && buffer[at] == ',') {
      step();
    }
    if (over || at < used && buffer[at] == ']') {
      return false;
    }
    from = at;
    indent = column;
    if (at == used) {
      over = true;
      broken = "the array does not end";
    } else {
      find();
    }
    length = at - from;
    return true;
  }

  /** Goes behind the element that begins here. */
  private void find() throws IOException {
    int line = at - column; // where the line begins
    int depth = 0;
    boolean text = false;
    boolean value = buffer[at] != '{' && buffer[at] != '[';
    for (int place = at; place - from <= mostBytes; place++) {
      int b = at(place);
      boolean ends = depth == 0 && !text && (value ? b == ',' || b == ']' : place > from);
      if (ends) {
        column = place - line;
        at = place;
        return;
      }
      boolean closes = !text && depth > 0 && (b == '}' || b == ']');
      if (b == -1 || text && b == '\n' || closes && braces.get(depth - 1) != (b == '}')) {
        resume(b == -1);
        return;
      }
      if (text) {
        place += b == '\\' ? 1 : 0;
        text = b != '"';
      } else if (b == '"') {
        text = true;
      } else if (b == '{' || b == '[') {
        braces.set(depth++, b == '{');
      } else if (closes) {
        depth--;
      } else if (b == '\n') {
        line = place + 1;
      }
    }
    resume(false);
  }

  /** The element does not end: goes to where the next can only begin. */
  private void resume(boolean atEnd) throws IOException {
    for (int place = from; place - from <= mostBytes; place++) {
      int b = at(place);
      if (b == -1) {
        break;
      }
      if (b == '\n') {
        int begin = place + 1;
        while (at(begin) == ' ' || at(begin) == '\t') {
          begin++;
        }
        if (at(begin) == '{' && begin - place - 1 <= indent) {
          at = begin;
          column = begin - place - 1;
          broken = "it has no end";
          return;
        }
      }
    }
    broken =
        (atEnd || at(used) == -1
                ? "the array ends within it"
                : "it has no end within " + mostBytes + " bytes")
            + "; nothing behind it can be read";
    over = true;
    at = Math.min(used, from + mostBytes);
  }

  /** Why the element moved to cannot be read, or null if it may be. */
  String broken() {
    return broken;
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

  /** A copy of the element's bytes, without what follows it. */
  byte[] copy() {
    return new String(buffer, from, length, StandardCharsets.UTF_8)
        .strip()
        .getBytes(StandardCharsets.UTF_8);
  }
}
