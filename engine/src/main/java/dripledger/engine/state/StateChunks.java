package dripledger.engine.state;

import dripledger.engine.row.Bytes;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.nio.ByteBuffer;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.zip.CRC32C;

/**
 * The forms of saved state. A chunk starts with its form, the form's version and a checksum
 * (CRC-32C) of what follows; numbers are little-endian.
 *
 * <ul>
 *   <li>{@code ARENA}: the shape of a {@link ByteArena} (see there), one a capture. The newest
 *       counts.
 *   <li>{@code PAGES}: pages of an arena, each {@code number:int | length:int | bytes}. The newest
 *       of a number counts.
 *   <li>{@code KEYED}: blocks of a keyed store, {@code key words:int | state words:int}, then each
 *       {@code 1:byte | key | state} or, for a key that went, {@code 0:byte | key}. The newest of a
 *       key counts.
 *   <li>{@code ROWS}: rows of a relation, {@code key length:int | row length:int | count:long | key
 *       | row} each; a count of 0 is a key that went. The newest of a key counts.
 *   <li>{@code BAG}: changes to a {@link SortedBag}, each {@code key length:int | length:int |
 *       weight:long | bytes}. They add up.
 * </ul>
 *
 * <p>So the chunks of many captures can be merged into those of one without knowing what the state
 * means: {@link #merge}.
 */
public final class StateChunks {
  /** The length chunks are cut at, in bytes before compression. */
  public static final int MAX_BYTES = 1 << 20;

  static final byte ARENA = 1;
  static final byte PAGES = 2;
  static final byte BAG = 3;
  static final byte KEYED = 4;
  static final byte ROWS = 5;
  private static final byte VERSION = 3;
  private static final int SUM = 2; // where the checksum is
  static final int HEADER = 6;
  private static final int ROW_HEADER = 16; // of an entry of ROWS

  private StateChunks() {}

  /** The form of a chunk. */
  static byte form(byte[] chunk) {
    if (chunk.length < HEADER || chunk[1] != VERSION || chunk[0] < ARENA || chunk[0] > ROWS) {
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

  private static int checksum(byte[] chunk, int end) {
    CRC32C sum = new CRC32C();
    sum.update(chunk, HEADER, end - HEADER);
    return (int) sum.getValue();
  }

  /** A chunk being written. */
  static final class Builder {
    private final byte form;
    private final Durable.ChunkSink sink;
    private byte[] bytes = new byte[4096];
    private int size;

    Builder(byte form, Durable.ChunkSink sink) {
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
        bytes = java.util.Arrays.copyOf(bytes, Math.max(size + more, bytes.length * 2));
      }
    }

    Builder putInt(int value) {
      ensure(4);
      Bytes.putInt(bytes, size, value);
      size += 4;
      return this;
    }

    Builder putLong(long value) {
      ensure(8);
      Bytes.putLong(bytes, size, value);
      size += 8;
      return this;
    }

    Builder put(byte[] source, int from, int length) {
      ensure(length);
      System.arraycopy(source, from, bytes, size, length);
      size += length;
      return this;
    }

    Builder putByte(byte value) {
      ensure(1);
      bytes[size++] = value;
      return this;
    }

    boolean isEmpty() {
      return size == HEADER;
    }

    /** Hands the chunk on if it is long enough. */
    void cut() {
      if (size >= MAX_BYTES) {
        end();
      }
    }

    /** Hands on what there is. */
    void end() {
      if (size > HEADER) {
        Bytes.putInt(bytes, SUM, checksum(bytes, size));
        sink.chunk(java.util.Arrays.copyOf(bytes, size));
        begin();
      }
    }
  }

  /** Merges the chunks of many captures of one state, oldest first, into those of one. */
  public static List<byte[]> merge(List<byte[]> chunks) {
    List<byte[]> out = new ArrayList<>();
    byte[] arena = null;
    Map<Integer, byte[]> pages = new TreeMap<>();
    BagBatch batch = new BagBatch();
    SortedBag bag = SortedBag.EMPTY;
    if (!chunks.isEmpty() && form(chunks.get(0)) == KEYED) {
      return mergeKeyed(chunks);
    }
    if (!chunks.isEmpty() && form(chunks.get(0)) == ROWS) {
      return mergeRows(chunks);
    }
    for (byte[] chunk : chunks) {
      switch (form(chunk)) {
        case ARENA -> arena = chunk;
        case PAGES ->
            forEachPage(
                chunk,
                (number, at, length) ->
                    pages.put(number, java.util.Arrays.copyOfRange(chunk, at, at + length)));
        default -> bag = applyBag(bag, chunk, batch);
      }
    }
    if (arena != null) {
      out.add(arena);
      Builder builder = new Builder(PAGES, out::add);
      pages.forEach(
          (number, page) -> {
            builder.putInt(number).putInt(page.length).put(page, 0, page.length);
            builder.cut();
          });
      builder.end();
    }
    encodeDifference(SortedBag.EMPTY, bag, out::add);
    return out;
  }

  private static List<byte[]> mergeKeyed(List<byte[]> chunks) {
    int keyWords = Bytes.getInt(chunks.get(0), HEADER);
    int stateWords = Bytes.getInt(chunks.get(0), HEADER + 4);
    Versions versions = Versions.once();
    KeyedStore store = new KeyedStore(versions, keyWords, stateWords, 64);
    readKeyed(chunks, keyWords, stateWords, store::restore, store::forget);
    versions.publish();
    List<byte[]> out = new ArrayList<>();
    KeyedWriter writer = keyed(keyWords, stateWords, out::add);
    store.changedSince(0, 1, writer::put);
    writer.end();
    return out;
  }

  /** Where the newest entry of a key is. */
  private record Place(byte[] chunk, int at) {}

  private static List<byte[]> mergeRows(List<byte[]> chunks) {
    Map<ByteBuffer, Place> newest = new LinkedHashMap<>();
    for (byte[] chunk : chunks) {
      forEachRow(
          chunk,
          (bytes, at, keyLength, length, count) -> {
            ByteBuffer key = ByteBuffer.wrap(bytes, at, keyLength);
            if (count == 0) {
              newest.remove(key);
            } else {
              newest.put(key, new Place(bytes, at - ROW_HEADER));
            }
          });
    }
    List<byte[]> out = new ArrayList<>();
    Builder builder = new Builder(ROWS, out::add);
    for (Place place : newest.values()) {
      int length = Bytes.getInt(place.chunk, place.at) + Bytes.getInt(place.chunk, place.at + 4);
      builder.put(place.chunk, place.at, ROW_HEADER + length);
      builder.cut();
    }
    builder.end();
    return out;
  }

  /** Writes rows with their keys. */
  public static RowsWriter rows(Durable.ChunkSink sink) {
    return new RowsWriter(sink);
  }

  /** Writes {@link #ROWS} chunks. */
  public static final class RowsWriter {
    private final Builder builder;

    private RowsWriter(Durable.ChunkSink sink) {
      builder = new Builder(ROWS, sink);
    }

    /**
     * A row as it is, or a key that went.
     *
     * @param count how many times it is there, 0 if it went
     */
    public void put(byte[] key, byte[] row, int from, int length, long count) {
      builder.putInt(key.length).putInt(length).putLong(count);
      builder.put(key, 0, key.length).put(row, from, length);
      builder.cut();
    }

    /** Hands on what there is. */
    public void end() {
      builder.end();
    }
  }

  /** Takes a row: its key at a place, the row behind it. */
  @FunctionalInterface
  public interface RowSink {
    void row(byte[] bytes, int key, int keyLength, int length, long count);
  }

  /**
   * Reads rows in order.
   *
   * @throws StateFormatException if they are of another form
   */
  public static void readRows(List<byte[]> chunks, RowSink sink) {
    for (byte[] chunk : chunks) {
      if (form(chunk) != ROWS) {
        throw new StateFormatException("saved rows are expected here");
      }
      forEachRow(chunk, sink);
    }
  }

  private static void forEachRow(byte[] chunk, RowSink sink) {
    for (int at = HEADER; at < chunk.length; ) {
      int keyLength = Bytes.getInt(chunk, at);
      int length = Bytes.getInt(chunk, at + 4);
      sink.row(chunk, at + ROW_HEADER, keyLength, length, Bytes.getLong(chunk, at + 8));
      at += ROW_HEADER + keyLength + length;
    }
  }

  /** Writes blocks of a keyed store. */
  public static KeyedWriter keyed(int keyWords, int stateWords, Durable.ChunkSink sink) {
    return new KeyedWriter(keyWords, stateWords, sink);
  }

  /** Writes {@link #KEYED} chunks. */
  public static final class KeyedWriter {
    private final int keyWords;
    private final int stateWords;
    private final Builder builder;

    private KeyedWriter(int keyWords, int stateWords, Durable.ChunkSink sink) {
      this.keyWords = keyWords;
      this.stateWords = stateWords;
      builder = new Builder(KEYED, sink);
    }

    /** A key that went. */
    public void gone(long[] key) {
      write((byte) 0, key, keyWords);
    }

    /** A block as it is: key words, then state words. */
    public void put(long[] words) {
      write((byte) 1, words, keyWords + stateWords);
    }

    private void write(byte what, long[] words, int count) {
      if (builder.isEmpty()) {
        builder.putInt(keyWords).putInt(stateWords);
      }
      builder.putByte(what);
      for (int i = 0; i < count; i++) {
        builder.putLong(words[i]);
      }
      builder.cut();
    }

    /** Hands on what there is. */
    public void end() {
      builder.end();
    }
  }

  /** Takes the words of a block, or of a key, from a place on. */
  @FunctionalInterface
  public interface WordSink {
    void words(long[] words, int at);
  }

  /**
   * Reads blocks of a keyed store, in order.
   *
   * @throws StateFormatException if they are of a store of another shape
   */
  public static void readKeyed(
      List<byte[]> chunks, int keyWords, int stateWords, WordSink put, WordSink gone) {
    long[] words = new long[keyWords + stateWords];
    for (byte[] chunk : chunks) {
      boolean fits =
          form(chunk) == KEYED
              && chunk.length >= HEADER + 8
              && Bytes.getInt(chunk, HEADER) == keyWords
              && Bytes.getInt(chunk, HEADER + 4) == stateWords;
      if (!fits) {
        throw new StateFormatException("saved groups of another shape");
      }
      for (int at = HEADER + 8; at < chunk.length; ) {
        boolean there = chunk[at++] == 1;
        int count = there ? keyWords + stateWords : keyWords;
        for (int i = 0; i < count; i++, at += 8) {
          words[i] = Bytes.getLong(chunk, at);
        }
        (there ? put : gone).words(words, 0);
      }
    }
  }

  interface PageSink {
    void page(int number, int at, int length);
  }

  static void forEachPage(byte[] chunk, PageSink sink) {
    for (int at = HEADER; at < chunk.length; ) {
      int number = Bytes.getInt(chunk, at);
      int length = Bytes.getInt(chunk, at + 4);
      sink.page(number, at + 8, length);
      at += 8 + length;
    }
  }

  static SortedBag applyBag(SortedBag bag, byte[] chunk, BagBatch batch) {
    for (int at = HEADER; at < chunk.length; ) {
      int keyLength = Bytes.getInt(chunk, at);
      int length = Bytes.getInt(chunk, at + 4);
      long weight = Bytes.getLong(chunk, at + 8);
      batch.add(chunk, at + 16, keyLength, chunk, at + 16 + keyLength, length - keyLength, weight);
      at += 16 + length;
    }
    SortedBag applied = bag.apply(batch);
    batch.clear();
    return applied;
  }

  static void encodeDifference(SortedBag older, SortedBag newer, Durable.ChunkSink sink) {
    Builder builder = new Builder(BAG, sink);
    newer.differenceFrom(
        older,
        (bytes, from, keyEnd, to, weight) -> {
          builder.putInt(keyEnd - from).putInt(to - from).putLong(weight);
          builder.put(bytes, from, to - from);
          builder.cut();
        });
    builder.end();
  }

  /** A bag kept by its owner in a field, made durable. Differences are found when encoding. */
  public abstract static class DurableBag implements Durable {
    private SortedBag saved = SortedBag.EMPTY;

    /** The bag as it is now. */
    protected abstract SortedBag current();

    /** Replaces the bag. */
    protected abstract void replace(SortedBag bag);

    @Override
    public final Capture capture(boolean whole) {
      SortedBag older = whole ? SortedBag.EMPTY : saved;
      SortedBag newer = current();
      saved = newer;
      return older == newer ? null : sink -> encodeDifference(older, newer, sink);
    }

    @Override
    public final void restore(List<byte[]> chunks) {
      SortedBag bag = SortedBag.EMPTY;
      BagBatch batch = new BagBatch();
      for (byte[] chunk : chunks) {
        if (form(chunk) != BAG) {
          throw new StateFormatException("saved rows are expected here");
        }
        bag = applyBag(bag, chunk, batch);
      }
      saved = bag;
      replace(bag);
    }
  }
}
