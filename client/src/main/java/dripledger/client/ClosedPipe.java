package dripledger.client;

import java.io.BufferedOutputStream;
import java.io.FileDescriptor;
import java.io.FileOutputStream;
import java.io.IOException;
import java.io.OutputStream;
import java.io.PrintStream;
import java.nio.charset.StandardCharsets;

/**
 * Standard output that ends the process when nobody reads it any more, as {@code head} does to what
 * is piped into it. Java ignores the signal that ends other programs there, and a {@link
 * PrintStream} swallows the error.
 */
final class ClosedPipe extends OutputStream {
  /** What a shell reports for a program that the signal of a closed pipe has ended. */
  static final int EXIT_CODE = 128 + 13;

  private final OutputStream out;

  private ClosedPipe(OutputStream out) {
    this.out = out;
  }

  /** A stream that writes UTF-8 to a file descriptor. */
  static PrintStream watched(FileDescriptor descriptor) {
    OutputStream out = new ClosedPipe(new FileOutputStream(descriptor));
    return new PrintStream(new BufferedOutputStream(out, 8192), true, StandardCharsets.UTF_8);
  }

  private static void end() {
    Runtime.getRuntime().halt(EXIT_CODE);
  }

  @Override
  public void write(int b) {
    write(new byte[] {(byte) b}, 0, 1);
  }

  @Override
  public void write(byte[] bytes, int from, int length) {
    try {
      out.write(bytes, from, length);
    } catch (IOException e) {
      end();
    }
  }

  @Override
  public void flush() {
    try {
      out.flush();
    } catch (IOException e) {
      end();
    }
  }
}
