package dripledger.server.wire;

import java.io.IOException;
import java.io.OutputStream;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;

/**
 * What is sent to a client: messages are gathered, and go when they are many or when the client is
 * waited for. Belongs to the session's thread.
 */
final class WireOutput {
  private static final int FIRST_BYTES = 16 * 1024;
  private static final int ENOUGH_BYTES = 64 * 1024;
  private static final int KEPT_BYTES = 1024 * 1024;

  private OutputStream out;
  private byte[] buffer = new byte[FIRST_BYTES];
  private int at;
  private int message;
  private volatile long writingSince; // 0 if nothing is being written

  WireOutput(OutputStream out) {
    this.out = out;
  }

  /** From here on everything goes there. */
  void through(OutputStream other) {
    out = other;
  }

  /** Since when the client takes nothing, by {@link System#nanoTime}; 0 if it does. */
  long writingSince() {
    return writingSince;
  }

  WireOutput begin(char type) {
    room(5);
    buffer[at++] = (byte) type;
    message = at;
    at += 4;
    return this;
  }

  void end() throws IOException {
    putInt32(message, at - message);
    if (at >= ENOUGH_BYTES) {
      flush();
    }
  }

  /** Forgets the message that was begun. */
  void abort() {
    at = message - 1;
  }

  void flush() throws IOException {
    if (at > 0) {
      writingSince = System.nanoTime() | 1;
      try {
        out.write(buffer, 0, at);
        out.flush();
      } finally {
        writingSince = 0;
      }
      at = 0;
      if (buffer.length > KEPT_BYTES) {
        buffer = new byte[FIRST_BYTES];
      }
    }
  }

  void room(int bytes) {
    if (buffer.length - at < bytes) {
      buffer = Arrays.copyOf(buffer, Math.max(at + bytes, buffer.length * 2));
    }
  }

  WireOutput int8(int value) {
    room(1);
    buffer[at++] = (byte) value;
    return this;
  }

  WireOutput int16(int value) {
    room(2);
    buffer[at++] = (byte) (value >> 8);
    buffer[at++] = (byte) value;
    return this;
  }

  WireOutput int32(int value) {
    room(4);
    putInt32(at, value);
    at += 4;
    return this;
  }

  WireOutput int64(long value) {
    int32((int) (value >>> 32));
    return int32((int) value);
  }

  private void putInt32(int place, int value) {
    buffer[place] = (byte) (value >> 24);
    buffer[place + 1] = (byte) (value >> 16);
    buffer[place + 2] = (byte) (value >> 8);
    buffer[place + 3] = (byte) value;
  }

  WireOutput bytes(byte[] bytes, int from, int length) {
    room(length);
    System.arraycopy(bytes, from, buffer, at, length);
    at += length;
    return this;
  }

  WireOutput bytes(byte[] bytes) {
    return bytes(bytes, 0, bytes.length);
  }

  /** Text without an end. */
  WireOutput chars(String text) {
    int length = text.length();
    room(length);
    for (int i = 0; i < length; i++) {
      char c = text.charAt(i);
      if (c >= 128) {
        at -= i;
        return bytes(text.getBytes(StandardCharsets.UTF_8));
      }
      buffer[at++] = (byte) c;
    }
    return this;
  }

  /** Text with a zero behind it; one inside of it would end it early. */
  WireOutput text(String text) {
    return chars(text.indexOf(0) < 0 ? text : text.replace('\0', '?')).int8(0);
  }

  /** Begins a value whose length goes before it; to be given to {@link #endValue}. */
  int beginValue() {
    room(4);
    at += 4;
    return at;
  }

  void endValue(int begun) {
    putInt32(begun - 4, at - begun);
  }

  void nullValue() {
    int32(-1);
  }

  /** A whole number in digits. */
  void digits(long value) {
    room(20);
    if (value == Long.MIN_VALUE) {
      chars("-9223372036854775808");
      return;
    }
    long left = value;
    if (left < 0) {
      buffer[at++] = '-';
      left = -left;
    }
    int length = 1;
    for (long power = 10; length < 19 && left >= power; power *= 10) {
      length++;
    }
    for (int i = at + length - 1; i >= at; i--) {
      buffer[i] = (byte) ('0' + left % 10);
      left /= 10;
    }
    at += length;
  }
}
