package dripledger.connectors.format;

import dripledger.engine.catalog.Origins;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.math.BigDecimal;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;
import java.util.HashMap;
import java.util.Map;

/**
 * Reads JSON as most programs write it from its bytes straight into a row, in one pass: objects of
 * known fields in about one order, text without escapes, numbers of at most 18 digits. Whatever
 * else it meets, right or wrong, it gives up on, and the whole parser reads the message from its
 * start; so it needs to know nothing about errors, and all it takes is taken as that parser takes
 * it. Not thread-safe.
 */
final class PlainJson {
  private static final int NOT_PLAIN = -1;
  private static final int MAX_DIGITS = 18;
  private static final int MAX_DEPTH = 64;
  private static final int MAX_PLACES = 200;
  private static final int MAX_NAME = 1000; // bytes
  private static final int MAX_KNOWN = 1000; // names of an object that are remembered
  private static final int MAX_PAUSE = 1024; // messages
  private static final long EXACT = 1L << 53; // doubles are whole numbers up to here
  private static final double[] POWERS = {
    1e0, 1e1, 1e2, 1e3, 1e4, 1e5, 1e6, 1e7, 1e8, 1e9, 1e10, 1e11, 1e12, 1e13, 1e14, 1e15, 1e16, 1e17
  };

  private final Fields fields;
  private final DriftLog drift;
  private final char[] time = new char[32];
  private byte[] message;
  private int end;
  private long digits; // of the number read last, without its point and sign
  private boolean negative;
  private int scale; // digits behind its point
  private int depth;
  private final Field[] undeclared = new Field[MAX_PLACES]; // of this message
  private int unknown; // how many
  private int pause; // messages that are not tried, as those before were not plain
  private int nextPause = 1;

  /** What the fields of an object stand for, and which came first last time. */
  private static final class Fields {
    private final Schema schema;
    private final FieldTree tree;
    private final Map<String, Field> known = new HashMap<>();
    private Field first;

    Fields(Schema schema, FieldTree tree) {
      this.schema = schema;
      this.tree = tree;
    }

    Field find(byte[] name) {
      String text = new String(name, StandardCharsets.UTF_8);
      Field field = known.get(text);
      if (field == null) {
        field = make(name, text);
        if (known.size() < MAX_KNOWN) {
          known.put(text, field);
        }
      }
      return field;
    }

    private Field make(byte[] name, String text) {
      int column = tree.column(text);
      if (column >= 0) {
        ColumnType type = schema.type(column);
        Fields inside = null;
        if (type.kind() == Kind.ROW) {
          Schema row = new Schema(type.fields());
          inside = new Fields(row, FieldTree.of(row, Origins.NONE, tree.path() + text + "."));
        }
        return new Field(name, column, type, inside, tree.path() + text);
      }
      FieldTree group = tree.group(text);
      return new Field(
          name, -1, null, group == null ? null : new Fields(schema, group), tree.path() + text);
    }
  }

  private static final class Field {
    final byte[] name;
    final int column; // −1 if it fills none
    final ColumnType type;
    final Fields inside; // what its own fields stand for; null if it is not looked into
    final String path;
    boolean noted; // as not declared, with an example
    Field next; // what followed it last time

    Field(byte[] name, int column, ColumnType type, Fields inside, String path) {
      this.name = name;
      this.column = column;
      this.type = type;
      this.inside = inside;
      this.path = path;
    }
  }

  PlainJson(Schema schema, FieldTree tree, DriftLog drift) {
    fields = new Fields(schema, tree);
    this.drift = drift;
  }

  /**
   * Reads a message of one object.
   *
   * @return false if it is not plain; the row may have been begun then
   */
  boolean read(byte[] bytes, int from, int length, RowBuilder into) {
    if (pause > 0) {
      pause--;
      return false;
    }
    message = bytes;
    end = from + length;
    depth = 0;
    unknown = 0;
    int i = space(from);
    if (i < end && bytes[i] == '{') {
      i = object(i + 1, fields, into);
      if (i > 0 && space(i) == end) {
        nextPause = 1;
        for (int u = 0; u < unknown; u++) {
          drift.known(undeclared[u].path);
        }
        return true;
      }
    }
    pause = nextPause;
    nextPause = Math.min(MAX_PAUSE, nextPause * 2);
    return false;
  }

  private int space(int from) {
    int i = from;
    while (i < end && message[i] <= ' ' && isSpace(message[i])) {
      i++;
    }
    return i;
  }

  private static boolean isSpace(byte b) {
    return b == ' ' || b == '\n' || b == '\r' || b == '\t';
  }

  /** Reads an object from behind its brace; answers the place behind its end. */
  private int object(int from, Fields known, RowBuilder into) {
    if (++depth > MAX_DEPTH) {
      return NOT_PLAIN;
    }
    int i = space(from);
    if (i < end && message[i] == '}') {
      depth--;
      return i + 1;
    }
    Field field = null;
    for (int place = 0; place < MAX_PLACES; place++) {
      i = space(i);
      if (i >= end || message[i] != '"') {
        return NOT_PLAIN;
      }
      field = field(i + 1, known, field);
      if (field == null) {
        return NOT_PLAIN;
      }
      i = space(i + field.name.length + 2);
      if (i >= end || message[i] != ':') {
        return NOT_PLAIN;
      }
      i = space(i + 1);
      if (i >= end) {
        return NOT_PLAIN;
      }
      i = field.column >= 0 ? value(i, field, into) : other(i, field, into);
      if (i < 0) {
        return NOT_PLAIN;
      }
      i = space(i);
      if (i >= end) {
        return NOT_PLAIN;
      }
      if (message[i] == '}') {
        depth--;
        return i + 1;
      }
      if (message[i] != ',') {
        return NOT_PLAIN;
      }
      i++;
    }
    return NOT_PLAIN;
  }

  /**
   * The field whose name begins here; null if the name is not plain. Producers write fields in one
   * order, some of which may be missing: so it is most likely the one that followed the field
   * before it last time.
   */
  private Field field(int from, Fields known, Field before) {
    Field expected = before == null ? known.first : before.next;
    if (expected != null) {
      byte[] name = expected.name;
      int behind = from + name.length;
      if (behind < end
          && message[behind] == '"'
          && Arrays.equals(message, from, behind, name, 0, name.length)) {
        return expected;
      }
    }
    int behind = string(from);
    if (behind < 0 || behind - from > MAX_NAME) {
      return null;
    }
    Field found = known.find(Arrays.copyOfRange(message, from, behind - 1));
    if (before == null) {
      known.first = found;
    } else {
      before.next = found;
    }
    return found;
  }

  /** A field that fills no column. */
  private int other(int at, Field field, RowBuilder into) {
    if (field.inside != null) {
      return message[at] == '{'
          ? object(at + 1, field.inside, into)
          : message[at] == 'n' ? word(at, "null") : NOT_PLAIN;
    }
    if (drift != null) {
      if (!field.noted && !(field.noted = drift.has(field.path)) || unknown == MAX_PLACES) {
        return NOT_PLAIN; // the parser has an example to give
      }
      undeclared[unknown++] = field;
    }
    return skip(at);
  }

  private int skip(int at) {
    return switch (message[at]) {
      case '"' -> string(at + 1);
      case 't' -> word(at, "true");
      case 'f' -> word(at, "false");
      case 'n' -> word(at, "null");
      case '{' -> skipAll(at + 1, '}', true);
      case '[' -> skipAll(at + 1, ']', false);
      default -> number(at);
    };
  }

  private int skipAll(int from, char closing, boolean named) {
    if (++depth > MAX_DEPTH) {
      return NOT_PLAIN;
    }
    int i = space(from);
    if (i < end && message[i] == closing) {
      depth--;
      return i + 1;
    }
    while (i < end) {
      if (named) {
        i = message[i] == '"' ? string(i + 1) : NOT_PLAIN;
        if (i < 0 || (i = space(i)) >= end || message[i] != ':') {
          return NOT_PLAIN;
        }
        i = space(i + 1);
      }
      i = i < end ? skip(i) : NOT_PLAIN;
      if (i < 0 || (i = space(i)) >= end) {
        return NOT_PLAIN;
      }
      if (message[i] == closing) {
        depth--;
        return i + 1;
      }
      if (message[i] != ',') {
        return NOT_PLAIN;
      }
      i = space(i + 1);
    }
    return NOT_PLAIN;
  }

  private int word(int at, String word) {
    if (end - at < word.length()) {
      return NOT_PLAIN;
    }
    for (int i = 0; i < word.length(); i++) {
      if (message[at + i] != word.charAt(i)) {
        return NOT_PLAIN;
      }
    }
    return at + word.length();
  }

  /** The place behind the quote that ends a text; its bytes are then as they are kept. */
  private int string(int from) {
    byte[] m = message;
    for (int i = from; i < end; i++) {
      byte b = m[i];
      if (b == '"') {
        return i + 1;
      }
      if (b < ' ' || b == '\\') { // below 0 is what is not ASCII
        i = b < 0 ? character(i) : NOT_PLAIN;
        if (i < 0) {
          return NOT_PLAIN;
        }
      }
    }
    return NOT_PLAIN;
  }

  /** The last byte of a character of two to four, if it is well-formed UTF-8 (RFC 3629). */
  private int character(int at) {
    int first = message[at] & 0xFF;
    int length = first < 0xC2 ? 0 : first < 0xE0 ? 2 : first < 0xF0 ? 3 : first < 0xF5 ? 4 : 0;
    if (length == 0 || end - at < length) {
      return NOT_PLAIN;
    }
    int code = first & 0xFF >> length + 1;
    for (int i = 1; i < length; i++) {
      int next = message[at + i];
      if ((next & 0xC0) != 0x80) {
        return NOT_PLAIN;
      }
      code = code << 6 | next & 0x3F;
    }
    boolean tooLong = length == 3 && code < 0x800 || length == 4 && code < 0x10000;
    boolean none = code > 0x10FFFF || code >= 0xD800 && code < 0xE000;
    return tooLong || none ? NOT_PLAIN : at + length - 1;
  }

  /** Reads a number into {@link #digits}, {@link #scale} and {@link #negative}. */
  private int number(int at) {
    byte[] m = message;
    int i = at;
    negative = m[i] == '-';
    if (negative) {
      i++;
    }
    int first = i;
    long value = 0;
    int digit;
    while (i < end && (digit = m[i] - '0') >= 0 && digit <= 9) {
      value = value * 10 + digit;
      i++;
    }
    int count = i - first;
    if (count == 0 || count > MAX_DIGITS || count > 1 && m[first] == '0') {
      return NOT_PLAIN;
    }
    scale = 0;
    if (i < end && m[i] == '.') {
      int point = i++;
      while (i < end && (digit = m[i] - '0') >= 0 && digit <= 9) {
        value = value * 10 + digit;
        i++;
      }
      scale = i - point - 1;
      if (scale == 0 || count + scale > MAX_DIGITS) {
        return NOT_PLAIN;
      }
    }
    digits = value;
    return i < end && (m[i] | 0x20) == 'e' ? NOT_PLAIN : i;
  }

  private int value(int at, Field field, RowBuilder into) {
    byte b = message[at];
    if (b == 'n') {
      into.setNull(field.column);
      return word(at, "null");
    }
    return switch (field.type.kind()) {
      case VARCHAR -> text(at, field, into);
      case SMALLINT -> whole(at, field.column, Short.MAX_VALUE, 1, into);
      case INTEGER -> whole(at, field.column, Integer.MAX_VALUE, 1, into);
      case BIGINT -> whole(at, field.column, Long.MAX_VALUE, 1, into);
      case REAL, DOUBLE -> approximate(at, field.column, into);
      case DECIMAL -> decimal(at, field.column, into);
      case TIMESTAMP ->
          b == '"'
              ? timestamp(at + 1, field.column, into)
              : whole(at, field.column, Long.MAX_VALUE / 1000, 1000, into);
      case BOOLEAN -> {
        into.setLong(field.column, b == 't' ? 1 : 0);
        yield word(at, b == 't' ? "true" : "false");
      }
      case ROW -> b == '{' ? object(at + 1, field.inside, into.nested(field.column)) : NOT_PLAIN;
      default -> NOT_PLAIN;
    };
  }

  private int text(int at, Field field, RowBuilder into) {
    boolean quoted = message[at] == '"';
    int from = quoted ? at + 1 : at;
    int behind = quoted ? string(from) : number(at);
    if (behind < 0) {
      return NOT_PLAIN;
    }
    int length = behind - from - (quoted ? 1 : 0);
    int limit = field.type.precision();
    if (limit >= 0 && length > limit) {
      return NOT_PLAIN; // more bytes than characters are allowed
    }
    into.setBytes(field.column, message, from, length);
    return behind;
  }

  /** A number, in quotes or not; NOT_PLAIN as soon as something is not as it should be. */
  private int quotedOrNot(int at) {
    if (message[at] != '"') {
      return number(at);
    }
    int i = at + 1 < end ? number(at + 1) : NOT_PLAIN;
    return i >= 0 && i < end && message[i] == '"' ? i + 1 : NOT_PLAIN;
  }

  private int whole(int at, int column, long most, long times, RowBuilder into) {
    int i = quotedOrNot(at);
    if (i < 0 || scale > 0 || digits > most) {
      return NOT_PLAIN;
    }
    into.setLong(column, (negative ? -digits : digits) * times);
    return i;
  }

  private int approximate(int at, int column, RowBuilder into) {
    int i = quotedOrNot(at);
    if (i < 0 || digits > EXACT) {
      return NOT_PLAIN;
    }
    // Both are exact, and so the quotient is the double nearest to the number.
    double value = digits / POWERS[scale];
    into.setDouble(column, negative ? -value : value);
    return i;
  }

  private int decimal(int at, int column, RowBuilder into) {
    int i = quotedOrNot(at);
    if (i < 0) {
      return NOT_PLAIN;
    }
    try {
      into.setDecimal(column, BigDecimal.valueOf(negative ? -digits : digits, scale));
    } catch (ArithmeticException e) { // too large
      return NOT_PLAIN;
    }
    return i;
  }

  private int timestamp(int from, int column, RowBuilder into) {
    int length = 0;
    int i = from;
    for (; i < end && message[i] != '"'; i++) {
      byte b = message[i];
      if (b < ' ' || b == '\\' || length == time.length) {
        return NOT_PLAIN;
      }
      time[length++] = (char) b;
    }
    try {
      into.setLong(column, TimestampText.parse(time, 0, length));
    } catch (RuntimeException e) { // it is none
      return NOT_PLAIN;
    }
    return i < end ? i + 1 : NOT_PLAIN;
  }
}
