package dripledger.server.wire;

import java.io.EOFException;
import java.io.IOException;
import java.io.InputStream;
import java.net.Socket;
import java.net.SocketTimeoutException;
import java.nio.ByteBuffer;
import java.nio.charset.CharacterCodingException;
import java.nio.charset.CodingErrorAction;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;
import java.util.concurrent.locks.ReentrantLock;

/**
 * The messages that a client sends. One message is held at a time: what is read of it is valid
 * until the next. Belongs to the session's thread, but for {@link #hasEnded}.
 */
final class WireInput {
  private static final int FIRST_BYTES = 16 * 1024;

  private final InputStream in;
  private final Flush beforeWaiting;
  private byte[] buffer = new byte[FIRST_BYTES];
  private int read; // of the buffer, by us
  private volatile int filled; // of the buffer, by the client
  private int end; // of the message in the buffer
  private final ReentrantLock filling = new ReentrantLock();

  /** Done before the client is waited for. */
  interface Flush {
    void run() throws IOException;
  }

  /** A client sends what is no message. */
  static final class Malformed extends IOException {
    private static final long serialVersionUID = 1L;

    Malformed(String message) {
      super(message);
    }
  }

  /**
   * @param beforeWaiting done each time before the client is waited for
   */
  WireInput(InputStream in, Flush beforeWaiting) {
    this.in = in;
    this.beforeWaiting = beforeWaiting;
  }

  /**
   * Waits for a message without a type, as connections begin with.
   *
   * @param mostBytes a longer one is refused
   */
  void nextUntyped(int mostBytes) throws IOException {
    read = end;
    need(4);
    begin(mostBytes);
  }

  /**
   * Waits for a message; answers its type.
   *
   * @param mostBytes a longer one is refused
   */
  byte next(int mostBytes) throws IOException {
    read = end;
    need(5);
    byte type = buffer[read++];
    begin(mostBytes);
    return type;
  }

  private void begin(int mostBytes) throws IOException {
    int length = int32At(read) - 4;
    read += 4;
    if (length < 0 || length > mostBytes) {
      throw new Malformed("a message of " + length + " bytes; at most " + mostBytes + " are taken");
    }
    end = read; // so that what is moved is the message
    need(length);
    end = read + length;
  }

  /** Waits until as many bytes are there behind what was read. */
  private void need(int bytes) throws IOException {
    if (filled - read >= bytes) {
      return;
    }
    beforeWaiting.run();
    filling.lock();
    try {
      wait(bytes);
    } finally {
      filling.unlock();
    }
  }

  private void wait(int bytes) throws IOException {
    while (filled - read < bytes) {
      if (read > 0 && buffer.length - read < bytes) {
        System.arraycopy(buffer, read, buffer, 0, filled - read);
        filled -= read;
        read = 0;
      }
      if (buffer.length < bytes) {
        buffer = Arrays.copyOf(buffer, Math.max(bytes, Math.min(bytes * 2, buffer.length * 2)));
      }
      fill();
    }
    if (filled == read && buffer.length > 64 * FIRST_BYTES) {
      buffer = new byte[FIRST_BYTES];
      read = 0;
      filled = 0;
    }
  }

  private void fill() throws IOException {
    int got = in.read(buffer, filled, buffer.length - filled);
    if (got < 0) {
      throw new EOFException("the client went away");
    }
    filled += got;
  }

  /**
   * Looks whether the client has gone, while its statement is being carried out; what else it sends
   * meanwhile is kept. For any thread.
   */
  boolean hasGone(Socket socket) {
    if (!filling.tryLock()) {
      return false; // it is being read from
    }
    try {
      if (filled == buffer.length) {
        return false;
      }
      socket.setSoTimeout(1);
      try {
        fill();
      } finally {
        socket.setSoTimeout(0);
      }
      return false;
    } catch (SocketTimeoutException e) {
      return false;
    } catch (IOException e) {
      return true;
    } finally {
      filling.unlock();
    }
  }

  /** Whether more of what the client has sent is here already. */
  boolean hasMore() {
    return filled > end;
  }

  // ---- the fields of the message

  int left() {
    return end - read;
  }

  private void check(int bytes) throws Malformed {
    if (bytes < 0 || end - read < bytes) {
      throw new Malformed("a message ends before its fields do");
    }
  }

  byte int8() throws Malformed {
    check(1);
    return buffer[read++];
  }

  int int16() throws Malformed {
    check(2);
    int value = (short) ((buffer[read] & 255) << 8 | buffer[read + 1] & 255);
    read += 2;
    return value;
  }

  /** A number of things that follow, of which each takes some bytes. */
  int count(int bytesEach) throws Malformed {
    int n = int16() & 0xffff;
    check(n * bytesEach);
    return n;
  }

  int int32() throws Malformed {
    check(4);
    int value = int32At(read);
    read += 4;
    return value;
  }

  private int int32At(int at) {
    return (buffer[at] & 255) << 24
        | (buffer[at + 1] & 255) << 16
        | (buffer[at + 2] & 255) << 8
        | buffer[at + 3] & 255;
  }

  /** A text that ends with a zero. */
  String text() throws Malformed {
    int from = read;
    while (read < end && buffer[read] != 0) {
      read++;
    }
    check(1);
    read++;
    return utf8(buffer, from, read - 1 - from);
  }

  /** Passes some bytes over and answers where they are in {@link #buffer}. */
  int bytes(int length) throws Malformed {
    check(length);
    int at = read;
    read += length;
    return at;
  }

  /** What {@link #bytes} and the rest of the message are in. */
  byte[] buffer() {
    return buffer;
  }

  /** A copy of the rest of the message. */
  byte[] rest() {
    byte[] copy = Arrays.copyOfRange(buffer, read, end);
    read = end;
    return copy;
  }

  /**
   * Text as the protocol has it.
   *
   * @throws Malformed if it is not UTF-8
   */
  static String utf8(byte[] bytes, int from, int length) throws Malformed {
    for (int i = from; i < from + length; i++) {
      if (bytes[i] < 0) {
        try {
          return StandardCharsets.UTF_8
              .newDecoder()
              .onMalformedInput(CodingErrorAction.REPORT)
              .onUnmappableCharacter(CodingErrorAction.REPORT)
              .decode(ByteBuffer.wrap(bytes, from, length))
              .toString();
        } catch (CharacterCodingException e) {
          throw new Malformed("a text is not UTF-8");
        }
      }
    }
    return new String(bytes, from, length, StandardCharsets.ISO_8859_1);
  }
}
