package dripledger.engine.state;

import dripledger.engine.row.Bytes;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.nio.ByteBuffer;
import java.nio.channels.FileChannel;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardOpenOption;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.Deque;
import java.util.Iterator;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.function.Predicate;

/**
 * Records that wait on disk: put in at the end, taken from the front. The files have no name, so
 * that they go with the process; what outlives it is what checkpoints save. Single writer; a
 * capture may be encoded on another thread.
 */
public final class Spool implements Durable {
  private static final long SEGMENT_BYTES = 16L << 20;
  private static final int NUMBER = 8; // bytes of a record's number, its key in saved state

  private final Path directory;
  private final Deque<Place> places = new ArrayDeque<>();
  private Segment last;
  private long first; // the number of the record in front
  private long saved; // records before it have been captured
  private long told; // of those before it a capture has said that they went
  private long bytes;

  /** Where a record is. */
  private record Place(Segment segment, long at, int length) {
    byte[] read() {
      byte[] record = new byte[length];
      ByteBuffer into = ByteBuffer.wrap(record);
      try {
        while (into.hasRemaining()) {
          if (segment.file.read(into, at + into.position()) < 0) {
            throw new IOException("what waits on disk is shorter than it was");
          }
        }
      } catch (IOException e) {
        throw new UncheckedIOException(e);
      }
      return record;
    }
  }

  /** A file, for as long as somebody has a use for it. */
  private static final class Segment {
    final FileChannel file;
    long size;
    private int uses = 1; // the writer's

    Segment(FileChannel file) {
      this.file = file;
    }

    synchronized void use() {
      uses++;
    }

    synchronized void release() {
      if (--uses == 0) {
        try {
          file.close();
        } catch (IOException e) {
          throw new UncheckedIOException(e);
        }
      }
    }
  }

  /**
   * @param directory where its files are
   */
  public Spool(Path directory) {
    this.directory = directory;
  }

  /** The number the next record gets: those that wait are before it. */
  public long end() {
    return first + places.size();
  }

  /** The number of the record in front. */
  public long first() {
    return first;
  }

  /** What waits, in bytes. */
  public long bytes() {
    return bytes;
  }

  /**
   * Puts a record at the end.
   *
   * @throws UncheckedIOException if the disk does not take it
   */
  public void put(byte[] record) {
    Place place = write(record, 0, record.length);
    place.segment.use();
    places.add(place);
    bytes += record.length;
  }

  private Place write(byte[] record, int from, int length) {
    try {
      if (last == null || last.size >= SEGMENT_BYTES) {
        if (last != null) {
          last.release();
        }
        last = open();
      }
      ByteBuffer out = ByteBuffer.wrap(record, from, length);
      while (out.hasRemaining()) {
        last.file.write(out, last.size + out.position() - from);
      }
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    }
    Place place = new Place(last, last.size, length);
    last.size += length;
    return place;
  }

  private Segment open() throws IOException {
    Files.createDirectories(directory);
    Path path = Files.createTempFile(directory, "waiting", null);
    Segment segment =
        new Segment(FileChannel.open(path, StandardOpenOption.READ, StandardOpenOption.WRITE));
    Files.delete(path); // its bytes stay until it is closed
    return segment;
  }

  /** Gives the records that wait from a number on, in order, until the sink has enough. */
  public void read(long from, Predicate<byte[]> sink) {
    long number = first;
    for (Place place : places) {
      if (number++ >= from && !sink.test(place.read())) {
        return;
      }
    }
  }

  /** Says which number the next record gets; once what was saved is there. */
  public void goOnAt(long number) {
    if (places.isEmpty()) {
      first = number;
      saved = number;
      told = number;
    }
  }

  /** Takes the record in front away, and answers it. */
  public byte[] take() {
    Place place = places.remove();
    byte[] record = place.read();
    first++;
    bytes -= place.length;
    place.segment.release();
    if (places.isEmpty() && last != null) {
      last.release();
      last = null;
    }
    return record;
  }

  /** Lets go of all files. */
  public void close() {
    places.forEach(place -> place.segment.release());
    places.clear();
    bytes = 0;
    if (last != null) {
      last.release();
      last = null;
    }
  }

  // ---- saved state: each record under its number

  @Override
  public Capture capture(boolean whole) {
    long gone = whole ? first : told;
    long known = Math.min(saved, first); // of these it must be said that they went
    long from = whole ? first : Math.max(saved, first);
    List<Place> kept = new ArrayList<>();
    Iterator<Place> all = places.iterator();
    for (long number = first; number < end(); number++) {
      Place place = all.next();
      if (number >= from) {
        place.segment.use();
        kept.add(place);
      }
    }
    saved = end();
    told = first;
    return kept.isEmpty() && gone >= known ? null : new Captured(gone, known, from, kept);
  }

  private record Captured(long gone, long known, long from, List<Place> kept) implements Capture {
    @Override
    public void encode(ChunkSink sink) {
      StateChunks.Writer out = StateChunks.entries(sink);
      byte[] key = new byte[NUMBER];
      for (long number = gone; number < known; number++) {
        Bytes.putLong(key, 0, number);
        out.key(key, 0, NUMBER).end(0);
      }
      long number = from;
      for (Place place : kept) {
        Bytes.putLong(key, 0, number++);
        byte[] record = place.read();
        out.key(key, 0, NUMBER).put(record, 0, record.length).end(1);
      }
      out.close();
    }

    @Override
    public void close() {
      kept.forEach(place -> place.segment.release());
    }
  }

  @Override
  public void restore(Chunks chunks) {
    Map<Long, Place> found = new TreeMap<>(); // merged state is in any order
    StateChunks.readEntries(
        chunks,
        (chunk, key, keyLength, length, count) -> {
          long number = Bytes.getLong(chunk, key);
          Place old =
              count == 0
                  ? found.remove(number)
                  : found.put(number, write(chunk, key + keyLength, length));
          if (count != 0) {
            found.get(number).segment.use();
          }
          if (old != null) {
            old.segment.release();
          }
        });
    for (Map.Entry<Long, Place> entry : found.entrySet()) {
      if (places.isEmpty()) {
        first = entry.getKey();
      } else if (entry.getKey() != end()) {
        throw new StateFormatException("what waits has gaps");
      }
      places.add(entry.getValue());
      bytes += entry.getValue().length;
    }
    saved = end();
    told = first;
  }
}
