package dripledger.engine.state;

import dripledger.engine.row.Bytes;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.zip.CRC32C;

/**
 * The forms of saved state. A chunk starts with its form, the form's version and a checksum
 * (CRC-32C) of what follows; numbers are little-endian.
 *
 * <ul>
 *   <li>{@code ENTRIES}: {@code key length:int | value length:int | count:long | key | value} each;
 *       a count of 0 is a key that went. The newest of a key counts.
 *   <li>{@code LOG}: {@code length:int | row} each, one after the other.
 * </ul>
 *
 * <p>So the chunks of many captures can be merged into those of one without knowing what the state
 * means: {@link #merge}.
 */
public final class StateChunks {
  /** The length chunks are cut at, in bytes before compression. */
  public static final int MAX_BYTES = 1 << 20;

  private static final byte ENTRIES = 1;
  private static final byte LOG = 2;
  private static final byte VERSION = 5;
  private static final int SUM = 2; // where the checksum is
  private static final int HEADER = 6;
  private static final int ENTRY_HEADER = 16;
  private static final int COUNT = 8; // where it is within the header of an entry

  private StateChunks() {}

  /** The form of a chunk. */
  private static byte form(byte[] chunk) {
    if (chunk.length < HEADER || chunk[1] != VERSION || chunk[0] < ENTRIES || chunk[0] > LOG) {
      throw new StateFormatException(
          "saved state of form "
              + (chunk.length < HEADER ? "?" : chunk[0] + "." + chunk[1])
              + ", which this release does not read");
    }
    if (Bytes.getInt(chunk, SUM) != checksum(chunk, chunk.length)) {
      throw new StateFormatException("saved state that is damaged: its checksum is another");
    }
    return chunk[0];
  }

  private static void require(byte[] chunk, byte form) {
    if (form(chunk) != form) {
      throw new StateFormatException("saved state of another form");
    }
  }

  private static int checksum(byte[] chunk, int end) {
    CRC32C sum = new CRC32C();
    sum.update(chunk, HEADER, end - HEADER);
    return (int) sum.getValue();
  }

  /** Writes entries by key. */
  public static Writer entries(Durable.ChunkSink sink) {
    return new Writer(ENTRIES, sink);
  }

  /** Writes rows of a log: an entry is a row, and has neither key nor count. */
  public static Writer log(Durable.ChunkSink sink) {
    return new Writer(LOG, sink);
  }

  /** Writes chunks, entry by entry. One thread. */
  public static final class Writer {
    private final byte form;
    private final Durable.ChunkSink sink;
    private byte[] bytes = new byte[4096];
    private int size;
    private int entry; // where the entry being written starts
    private int value;

    private Writer(byte form, Durable.ChunkSink sink) {
      this.form = form;
      this.sink = sink;
      begin();
    }

    private void begin() {
      size = HEADER;
      bytes[0] = form;
      bytes[1] = VERSION;
    }

    private void ensure(int more) {
      if (bytes.length - size < more) {
        bytes = Arrays.copyOf(bytes, Math.max(size + more, bytes.length * 2));
      }
    }

    /** Begins an entry. */
    public Writer key(byte[] source, int from, int length) {
      entry = size;
      ensure(ENTRY_HEADER);
      Bytes.putInt(bytes, size, length);
      size += ENTRY_HEADER;
      put(source, from, length);
      value = size;
      return this;
    }

    /** Appends to the value of the entry. */
    public Writer put(byte[] source, int from, int length) {
      ensure(length);
      System.arraycopy(source, from, bytes, size, length);
      size += length;
      return this;
    }

    /** Appends to the value of the entry. */
    public Writer putLong(long word) {
      ensure(8);
      Bytes.putLong(bytes, size, word);
      size += 8;
      return this;
    }

    /** Appends to the value of the entry. */
    public Writer putInt(int word) {
      ensure(4);
      Bytes.putInt(bytes, size, word);
      size += 4;
      return this;
    }

    /** Ends the entry: it is there {@code count} times, and not at all if that is 0. */
    public void end(long count) {
      Bytes.putInt(bytes, entry + 4, size - value);
      Bytes.putLong(bytes, entry + COUNT, count);
      cut();
    }

    /** A row of a log. */
    public void row(byte[] source, int from, int length) {
      putInt(length).put(source, from, length);
      cut();
    }

    private void entry(byte[] chunk, int at, int length) {
      put(chunk, at, length);
      cut();
    }

    private void cut() {
      if (size >= MAX_BYTES) {
        close();
      }
    }

    /** Hands on what there is. */
    public void close() {
      if (size > HEADER) {
        Bytes.putInt(bytes, SUM, checksum(bytes, size));
        sink.chunk(Arrays.copyOf(bytes, size));
        begin();
      }
    }
  }

  /** Takes an entry: its key at a place, the value behind it. */
  @FunctionalInterface
  public interface EntrySink {
    void entry(byte[] bytes, int key, int keyLength, int valueLength, long count);
  }

  /** Takes a row at a place. */
  @FunctionalInterface
  public interface RowSink {
    void row(byte[] bytes, int at, int length);
  }

  /**
   * Reads entries in order.
   *
   * @throws StateFormatException if they are of another form
   */
  public static void readEntries(Durable.Chunks chunks, EntrySink sink) {
    chunks.forEach(
        chunk -> {
          require(chunk, ENTRIES);
          forEachEntry(chunk, sink);
        });
  }

  private static void forEachEntry(byte[] chunk, EntrySink sink) {
    for (int at = HEADER; at < chunk.length; ) {
      int keyLength = Bytes.getInt(chunk, at);
      int length = Bytes.getInt(chunk, at + 4);
      sink.entry(chunk, at + ENTRY_HEADER, keyLength, length, Bytes.getLong(chunk, at + COUNT));
      at += ENTRY_HEADER + keyLength + length;
    }
  }

  /**
   * Reads the rows of a log in order.
   *
   * @throws StateFormatException if they are of another form
   */
  public static void readLog(Durable.Chunks chunks, RowSink sink) {
    chunks.forEach(
        chunk -> {
          require(chunk, LOG);
          forEachRow(chunk, sink);
        });
  }

  private static void forEachRow(byte[] chunk, RowSink sink) {
    for (int at = HEADER; at < chunk.length; ) {
      int length = Bytes.getInt(chunk, at);
      sink.row(chunk, at + 4, length);
      at += 4 + length;
    }
  }

  /**
   * Merges the chunks of many captures of one state into those of one. Entries are gathered a slice
   * of the keys at a time, so that no more than {@code maxBytes} of them are held; a log is copied
   * through.
   *
   * @param chunks read once a slice
   * @param bytes how long the chunks are together
   * @param fromStart whether nothing is older: then keys that went leave no trace
   */
  public static void merge(
      Durable.Chunks chunks, long bytes, long maxBytes, boolean fromStart, Durable.ChunkSink sink) {
    int slices = (int) Math.max(1, (bytes + maxBytes - 1) / maxBytes);
    Writer log = log(sink);
    Writer entries = entries(sink);
    boolean[] anyEntries = {true};
    for (int slice = 0; slice < slices && anyEntries[0]; slice++) {
      Slice newest = new Slice(slice, slices);
      boolean first = slice == 0;
      anyEntries[0] = false; // of a log everything is through with the first
      chunks.forEach(
          chunk -> {
            if (form(chunk) == ENTRIES) {
              anyEntries[0] = true;
              forEachEntry(chunk, newest);
            } else if (first) {
              forEachRow(chunk, log::row);
            }
          });
      newest.give(fromStart, entries);
    }
    log.close();
    entries.close();
  }

  /** The newest entries of some of the keys, in the order the keys came. */
  private static final class Slice implements EntrySink {
    private final int number;
    private final int slices;
    private final KeyedArena places = new KeyedArena(-1, 4);
    private final List<byte[]> entries = new ArrayList<>();

    Slice(int number, int slices) {
      this.number = number;
      this.slices = slices;
    }

    @Override
    public void entry(byte[] bytes, int key, int keyLength, int valueLength, long count) {
      long hash = Bytes.hash(bytes, key, keyLength);
      if (Integer.remainderUnsigned((int) hash, slices) != number) {
        return;
      }
      int place = places.findOrInsert(bytes, key, keyLength, hash);
      byte[] chunk = places.chunk(place);
      int at = places.valueAt(place);
      int end = key + keyLength + valueLength;
      byte[] entry = Arrays.copyOfRange(bytes, key - ENTRY_HEADER, end);
      int known = Bytes.getInt(chunk, at);
      if (known == 0) {
        entries.add(entry);
        Bytes.putInt(chunk, at, entries.size());
      } else {
        entries.set(known - 1, entry);
      }
    }

    void give(boolean fromStart, Writer out) {
      for (byte[] entry : entries) {
        if (!fromStart || Bytes.getLong(entry, COUNT) != 0) {
          out.entry(entry, 0, entry.length);
        }
      }
    }
  }
}
