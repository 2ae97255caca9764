package dripledger.engine.store;

import java.lang.invoke.VarHandle;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * A relation by key, kept once. Each key has a home block at a fixed place, {@code header | key
 * words | state words}, all longs. The header is {@code version:32 | undo place:31 | dead:1}: the
 * version of the last change, and where the block's state before that change is noted.
 *
 * <p><b>Writing</b> (one thread). The first change of a version to a block notes the old header and
 * state in the {@link UndoLog} and sets the header; every change then writes the state in place. So
 * the delta of the version is the undo segment: a record is the old state, the block the new one. A
 * key that goes leaves its block marked dead, until no reader can see it; then block and slot are
 * used again.
 *
 * <p><b>Reading</b> at a version (any thread). Read the header, then the block, then the header
 * again; if it moved, read again. If the header's version is later than wanted, follow the undo
 * places until one is not. At the end check that the floor has not passed the version.
 *
 * <p><b>Order of memory.</b> (1) The undo record is written before the header ({@code setRelease}),
 * and the header before the state ({@code storeStoreFence}); version and place are one word. (2)
 * Readers read the header with {@code getAcquire}, then the block, then fence, then the header
 * again. (3) After each undo record they fence and look at the floor. (4) A slot is written with
 * {@code setRelease} after its block. (7) A block is used again only when the floor has reached the
 * version it died in, and as an ordinary first change, before its key is written.
 *
 * <p>Keys are compared word by word; a key of variable length is padded by whoever makes it. 32
 * bytes a key and 11 of slots for a bigint key with two words of state.
 */
public final class KeyedStore extends KeyedReads implements Versions.Versioned {
  /** Blocks looked at together. */
  public static final int AHEAD = 128;

  private final ArrayDeque<Deaths> deaths = new ArrayDeque<>();
  private long[][] own = pages; // the same as readers have, for the writer
  private int blockCount;
  private int[] free = new int[16];
  private int freeCount;
  private long live;
  private long[] ahead = new long[0];

  @SuppressWarnings("UnusedVariable")
  private long touched; // what was read only to have it near

  private boolean ending;
  private boolean removed; // whether anything died in the version that is written
  private long lastChange;
  private long savedVersion;
  private boolean saving; // whether keys that go are noted for the next checkpoint
  private List<byte[]> gone = new ArrayList<>();
  private int stamp; // of the version that is written
  private final HeaderSweep sweep;
  private BlockRelease onRelease = (page, at) -> {};
  private KeyCopy goneKey = (page, at) -> new byte[0];

  private record Deaths(long version, int[] blocks) {}

  /**
   * @param partitions a power of two up to 64: of how many tables the slots are made
   */
  public KeyedStore(Versions versions, int keyWords, int stateWords, int partitions) {
    super(versions, keyWords, stateWords, partitions);
    stamp = (int) versions.writing();
    sweep = new HeaderSweep(this, versions.published());
    versions.add(this);
  }

  /** Sets in which form keys that went are noted. */
  public void goneKey(KeyCopy copy) {
    goneKey = copy;
  }

  /** Sets who is told when a block is given back. */
  public void onRelease(BlockRelease action) {
    onRelease = action;
  }

  /** The page a block is in. The writer's thread only. */
  public long[] page(int block) {
    return own[block >>> PAGE_SHIFT];
  }

  // ---- writing: one thread

  /**
   * Looks for the blocks of many keys of one word at once, so that their loads wait for memory
   * together.
   *
   * @param hashes set to the keys' hashes
   * @param blocks set to the keys' blocks, dead or alive, or to {@link #NONE} where that takes more
   *     than one look: then ask {@link #changeOrInsert}
   */
  public void findAhead(long[] keys, long[] hashes, int[] blocks, int count) {
    for (int i = 0; i < count; i++) {
      hashes[i] = hash(keys[i]);
    }
    first(hashes, count);
    // Each pass either waits for memory or decides; a decision on what is still on its way would
    // have to wait alone.
    for (int i = 0; i < count; i++) {
      blocks[i] = SlotTable.block(slots.follow(ahead[i], hashes[i]));
    }
    long[][] all = own;
    long seen = 0;
    for (int i = 0; i < count; i++) {
      int block = Math.max(0, blocks[i]);
      long[] page = all[block >>> PAGE_SHIFT];
      if (page == null) {
        break; // there are no blocks yet
      }
      int at = (block & PAGE_MASK) * blockWords;
      ahead[i] = page[at + 1];
      seen += page[at] + page[at + blockWords - 1]; // it may lie on two cache lines
    }
    touched = seen;
    for (int i = 0; i < count; i++) {
      if (ahead[i] != keys[i]) {
        blocks[i] = NONE;
      }
    }
  }

  /** The same for keys of several words; {@code hashes} are given. */
  public void findAhead(long[] keys, long[] hashes, int[] blocks, int count, int stride) {
    first(hashes, count);
    for (int i = 0; i < count; i++) {
      blocks[i] = SlotTable.block(slots.follow(ahead[i], hashes[i]));
    }
    touched = lookAhead(blocks, count);
    for (int i = 0; i < count; i++) {
      if (blocks[i] >= 0 && !sameKey(blocks[i], keys, i * stride)) {
        blocks[i] = NONE;
      }
    }
  }

  private void first(long[] hashes, int count) {
    if (ahead.length < count) {
      ahead = new long[count];
    }
    slots.first(hashes, count, ahead);
  }

  /** The block of a key, dead or alive, or {@link #NONE}. */
  public int find(long hash, long[] key, int from) {
    long[] table = slots.own(hash);
    int mask = table.length - 1;
    int bits = SlotTable.bits(hash);
    for (int at = SlotTable.start(table, bits); ; at = at + 1 & mask) {
      long slot = table[at];
      if (slot == SlotTable.EMPTY) {
        return NONE;
      }
      if ((int) (slot >>> 32) == bits && slot != SlotTable.TOMBSTONE) {
        int block = SlotTable.block(slot);
        if (sameKey(block, key, from)) {
          return block;
        }
      }
    }
  }

  private boolean sameKey(int block, long[] key, int from) {
    long[] page = page(block);
    int at = header(block) + 1;
    for (int i = 0; i < keyWords; i++) {
      if (page[at + i] != key[from + i]) {
        return false;
      }
    }
    return true;
  }

  /**
   * Makes a block ready to be changed in this version, and alive. Its state may then be written in
   * place. A block that was dead has a state of zeros.
   */
  public void change(int block) {
    long[] page = page(block);
    int at = header(block);
    long header = page[at];
    if ((int) (header >>> 32) == stamp && (header & DEAD) == 0) {
      return;
    }
    first(page, at, block, header);
  }

  private void first(long[] page, int at, int block, long header) {
    boolean dead = (header & DEAD) != 0;
    if ((int) (header >>> 32) != stamp) {
      note(page, at, block, header, 0);
    } else {
      WORD.setRelease(page, at, header & ~(long) DEAD); // died in this version, and is back
      VarHandle.storeStoreFence();
    }
    if (dead) {
      live++;
      int state = at + 1 + keyWords;
      Arrays.fill(page, state, state + stateWords, 0);
    }
  }

  /** Notes what the block is, then sets its header: rule 1. */
  private void note(long[] page, int at, int block, long header, int dead) {
    int place = undo.append();
    long[] record = undo.openPageLongs();
    int to = UndoLog.offset(place);
    record[to] = header;
    record[to + 1] = block;
    int state = at + 1 + keyWords;
    for (int i = 0; i < stateWords; i++) {
      record[to + 2 + i] = page[state + i];
    }
    WORD.setRelease(page, at, (long) stamp << 32 | (long) place << 1 | dead);
    VarHandle.storeStoreFence();
  }

  /** Marks a block dead in this version; its state stays as it is until it is used again. */
  public void remove(int block) {
    long[] page = page(block);
    int at = header(block);
    long header = page[at];
    if ((header & DEAD) != 0) {
      throw new IllegalStateException("a block is removed twice");
    }
    live--;
    removed = true;
    if ((int) (header >>> 32) == stamp) {
      WORD.setRelease(page, at, header | DEAD);
    } else {
      note(page, at, block, header, DEAD);
    }
  }

  /** The limit of blocks in the version that is written. */
  public int ownLimit() {
    return blockCount;
  }

  /** Whether a block's key is there in the version that is written. */
  public boolean isLive(int block) {
    return (page(block)[header(block)] & DEAD) == 0;
  }

  /** The block of a key, made if there is none, ready to be changed. */
  public int changeOrInsert(long hash, long[] key, int from) {
    int block = find(hash, key, from);
    if (block == NONE) {
      block = newBlock();
      System.arraycopy(key, from, page(block), header(block) + 1, keyWords);
      slots.insert(hash, block);
    } else {
      change(block);
    }
    return block;
  }

  /** A block that is noted as not having been there: rule 7 is for one that is used again. */
  private int newBlock() {
    int block;
    if (freeCount > 0) {
      block = free[--freeCount];
    } else {
      block = blockCount++;
      int number = block >>> PAGE_SHIFT;
      if ((block & PAGE_MASK) == 0) {
        if (number == own.length) {
          own = Arrays.copyOf(own, number * 2);
          pages = own;
        }
        own[number] = new long[PAGE_BLOCKS * blockWords];
        // Readers find it by a slot or by the limit of blocks, both written after it.
      }
    }
    long[] page = page(block);
    int at = header(block);
    if (page[at] == 0) { // never used
      page[at] = versions.floor() << 32 | DEAD;
    }
    first(page, at, block, page[at]);
    return block;
  }

  /** Takes the blocks that changed in the version that is written, each once. */
  @FunctionalInterface
  public interface ChangeSink {
    /**
     * @param wasLive whether the key was there before
     * @param isLive whether it is there now
     * @param record the page with the old state, at {@code oldState}
     */
    void changed(int block, boolean wasLive, boolean isLive, long[] record, int oldState);
  }

  /** Walks the delta of the version that is written: for each block its old state and its new. */
  public void changes(ChangeSink sink) {
    changeRecords(
        (page, from, end, step) -> {
          for (int at = from; at < end; at += step) {
            int block = (int) page[at + 1];
            sink.changed(block, (page[at] & DEAD) == 0, isLive(block), page, at + 2);
          }
        });
  }

  /** Takes up to {@link #AHEAD} undo records, whose blocks are near. */
  @FunctionalInterface
  public interface RecordSink {
    /**
     * @param page with the records {@code header (lowest bit: was not there) | block | old state}
     * @param from where the first is; they are {@code step} longs apart, before {@code end}
     */
    void records(long[] page, int from, int end, int step);
  }

  /** Walks the delta of the version that is written, as it was noted. */
  public void changeRecords(RecordSink sink) {
    undo.walk(
        (page, from, end, step) -> {
          for (int first = from; first < end; first += AHEAD * step) {
            int last = Math.min(end, first + AHEAD * step);
            lookAhead(page, first, last, step);
            sink.records(page, first, last, step);
          }
        });
  }

  /** Reads the blocks of records, so that their loads wait for memory together. */
  private void lookAhead(long[] page, int from, int end, int step) {
    long seen = 0;
    for (int at = from; at < end; at += step) {
      int block = (int) page[at + 1];
      long[] home = page(block);
      int header = header(block);
      seen += home[header] + home[header + blockWords - 1];
    }
    touched = seen;
  }

  /** Blocks changed in the version that is written. */
  public long changeCount() {
    return undo.count();
  }

  /** Whether a block's number of rows may have come to nothing: see {@link #ending}. */
  public boolean mayHaveEnded() {
    return removed || ending;
  }

  /** Says that a block may have to be removed before the version ends. */
  public void ending() {
    ending = true;
  }

  /** Whether anything has changed in the version that is written. */
  public boolean hasChanges() {
    return !undo.isEmpty();
  }

  /** What died is noted here, once a block and version, from the walk: rule 8. */
  @Override
  public void end(long version) {
    if (!undo.isEmpty()) {
      if (removed) {
        noteDeaths(version);
      }
      undo.close(version);
      blocks = blockCount;
      lastChange = version;
    }
    stamp = (int) (version + 1);
    ending = false;
    sweep.ended(version, versions.floor(), blockCount);
  }

  private void noteDeaths(long version) {
    int[][] dead = {new int[64]};
    int[] count = new int[1];
    changes(
        (block, wasLive, isLive, record, old) -> {
          if (!isLive) {
            if (count[0] == dead[0].length) {
              dead[0] = Arrays.copyOf(dead[0], count[0] * 2);
            }
            dead[0][count[0]++] = block;
            if (saving) {
              gone.add(goneKey.of(page(block), header(block) + 1));
            }
          }
        });
    removed = false;
    if (count[0] > 0) {
      deaths.add(new Deaths(version, Arrays.copyOf(dead[0], count[0])));
    }
  }

  @Override
  public void trim(long floor) {
    undo.trim(floor);
    while (!deaths.isEmpty() && deaths.peek().version <= floor) {
      Deaths gone = deaths.poll();
      for (int block : gone.blocks) {
        long[] page = page(block);
        int at = header(block);
        long header = page[at];
        // Back again, or dead again since: then it is not this death that gives it back.
        if ((header & DEAD) != 0 && (int) (header >>> 32) == (int) gone.version) {
          release(page, at, block);
        }
      }
    }
  }

  private void release(long[] page, int at, int block) {
    long hash = hashOf(page, at + 1);
    slots.remove(hash, block);
    onRelease.released(page, at + 1);
    if (freeCount == free.length) {
      free = Arrays.copyOf(free, freeCount * 2);
    }
    free[freeCount++] = block;
  }

  // ---- for checkpoints

  /** What a checkpoint saves: what has changed after a version, 0 for everything, and has gone. */
  public record Saved(long after, List<byte[]> gone) {}

  /**
   * Begins a checkpoint of the newest version. The writer's thread only.
   *
   * @param whole whether nothing has been saved before
   * @return null if nothing has changed
   */
  public Saved save(boolean whole) {
    long published = versions.published();
    if (!whole && lastChange <= savedVersion && gone.isEmpty()) {
      return null;
    }
    Saved saved = new Saved(whole ? 0 : savedVersion, whole ? List.of() : gone);
    gone = new ArrayList<>();
    savedVersion = published;
    saving = true;
    return saved;
  }

  /** Says that the newest version is saved: it was restored. The writer's thread only. */
  public void saved() {
    savedVersion = versions.published();
    saving = true;
  }

  /** Keys that are there in the version that is written. */
  public long size() {
    return live;
  }

  /** Heap held, in bytes: blocks, slots, undo. */
  public long heapBytes() {
    long bytes = undo.heapBytes() + 4L * free.length;
    int pageCount = (blockCount + PAGE_MASK) >>> PAGE_SHIFT;
    bytes += (long) pageCount * (8L * PAGE_BLOCKS * blockWords + 20);
    return bytes + slots.heapBytes();
  }

  @Override
  public long heldBackBytes() {
    return 8L * UndoLog.PAGE_LONGS * undo.usedPages();
  }

  /**
   * Goes over to another clock, which is ahead of the one before. By the writer of both; nobody
   * reads it yet.
   */
  public void join(Versions other) {
    versions.remove(this);
    versions = other;
    stamp = (int) other.writing();
    sweep.joined(other, blockCount);
    other.add(this);
  }

  /** Ends the store: it is trimmed no more. */
  public void close() {
    versions.remove(this);
  }
}
