package dripledger.connectors.file;

import java.io.EOFException;
import java.io.IOException;
import java.io.RandomAccessFile;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.attribute.BasicFileAttributes;
import java.util.ArrayList;
import java.util.List;
import java.util.zip.CRC32C;

/**
 * How to know a file again, whatever its name: what the file system calls it, and checksums of the
 * beginning and of the end of the bytes that were read.
 *
 * @param key of the file system; stays the same when a file is renamed, but may be given to another
 *     when it is gone
 * @param bytes of the file that the print stands for
 * @param heads checksums of the first bytes, one for each of {@link #SPANS}; of all the bytes where
 *     they are fewer
 * @param tail checksum of the last bytes, as many as the longest span
 */
record FilePrint(String key, long bytes, List<Long> heads, long tail) {
  private static final int[] SPANS = {32, 128, 1024};

  /** The print of the first bytes of a file. */
  static FilePrint of(Path file, long bytes) throws IOException {
    try (RandomAccessFile in = new RandomAccessFile(file.toFile(), "r")) {
      List<Long> heads = new ArrayList<>();
      for (int span : SPANS) {
        heads.add(sum(in, 0, Math.min(span, bytes)));
      }
      return new FilePrint(key(file), bytes, heads, sum(in, Math.max(0, bytes - SPANS[2]), bytes));
    }
  }

  /** What the file system calls a file. */
  static String key(Path file) throws IOException {
    Object key = Files.readAttributes(file, BasicFileAttributes.class).fileKey();
    return key == null ? "" : key.toString();
  }

  /** Whether the file begins as the one of this print did; true also if it is too short to say. */
  boolean mayBegin(Path file) throws IOException {
    long size = Files.size(file);
    int known = -1;
    for (int i = 0; i < SPANS.length; i++) {
      if (Math.min(SPANS[i], bytes) <= size) {
        known = i;
      }
    }
    return known < 0
        || of(file, Math.min(SPANS[known], bytes)).heads.get(known).equals(heads.get(known));
  }

  /** Whether the file begins with all the bytes of this print, as far as can be told. */
  boolean holds(Path file) throws IOException {
    if (Files.size(file) < bytes) {
      return false;
    }
    FilePrint now = of(file, bytes);
    return now.heads.equals(heads) && now.tail == tail;
  }

  private static long sum(RandomAccessFile in, long from, long to) throws IOException {
    byte[] buffer = new byte[(int) (to - from)];
    in.seek(from);
    try {
      in.readFully(buffer);
    } catch (EOFException e) {
      return -1; // it has become shorter meanwhile
    }
    CRC32C sum = new CRC32C();
    sum.update(buffer);
    return sum.getValue();
  }
}
