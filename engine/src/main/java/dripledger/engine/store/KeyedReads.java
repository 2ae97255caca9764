package dripledger.engine.store;

import java.lang.invoke.MethodHandles;
import java.lang.invoke.VarHandle;

/**
 * Reading a {@link KeyedStore} at a version, from any thread: what blocks are, what they were, and
 * which of them a key leads to. The rules of memory order are told there.
 */
public abstract class KeyedReads {
  /** Answered where there is no block. */
  public static final int NONE = -1;

  /** Blocks of one page. */
  static final int PAGE_SHIFT = 8;

  static final int PAGE_BLOCKS = 1 << PAGE_SHIFT;
  static final int PAGE_MASK = PAGE_BLOCKS - 1;
  static final int DEAD = 1;

  static final VarHandle WORD = MethodHandles.arrayElementVarHandle(long[].class);

  final int keyWords;
  final int stateWords;
  final int blockWords;
  final UndoLog undo;
  final PartitionedSlots slots;
  volatile Versions versions;
  volatile long[][] pages = new long[4][];
  volatile int blocks; // ever used; published with the version

  /** Told of a block that nobody can see any more, before it is used again. */
  @FunctionalInterface
  public interface BlockRelease {
    /** The block's words begin at {@code at}: its key, then its state. */
    void released(long[] page, int at);
  }

  /** Makes of a key that went what the next checkpoint is told of it. */
  @FunctionalInterface
  public interface KeyCopy {
    byte[] of(long[] page, int at);
  }

  KeyedReads(Versions versions, int keyWords, int stateWords, int partitions) {
    this.versions = versions;
    this.keyWords = keyWords;
    this.stateWords = stateWords;
    blockWords = 1 + keyWords + stateWords;
    undo = new UndoLog(2 + stateWords);
    slots = new PartitionedSlots(partitions);
  }

  /** Where a block's header is within its page. */
  public int header(int block) {
    return (block & PAGE_MASK) * blockWords;
  }

  /** Where a block's state is within its page. */
  public int state(int block) {
    return (block & PAGE_MASK) * blockWords + 1 + keyWords;
  }

  public int keyWords() {
    return keyWords;
  }

  public int stateWords() {
    return stateWords;
  }

  /** A 64-bit hash of one word: the finalizer of SplitMix64 (Steele et al., OOPSLA 2014). */
  public static long hash(long word) {
    long h = (word ^ word >>> 30) * 0xBF58476D1CE4E5B9L;
    h = (h ^ h >>> 27) * 0x94D049BB133111EBL;
    return h ^ h >>> 31;
  }

  /** A 64-bit hash of a key of several words. */
  public static long hash(long[] key, int from, int words) {
    long h = hash(key[from] + 0x9E3779B97F4A7C15L);
    for (int i = 1; i < words; i++) {
      h = hash(h ^ key[from + i]);
    }
    return h;
  }

  /**
   * Whether a header's version is a version or before it. Versions come round after 2^32 and are
   * compared by their distance, which is less than half of that: see {@link KeyedStore#end}.
   */
  private static boolean isReached(long header, int version) {
    return (int) (header >>> 32) - version <= 0;
  }

  /** The hash of a key in words. */
  public long hashOf(long[] words, int at) {
    return keyWords == 1 ? hash(words[at]) : hash(words, at, keyWords);
  }

  /** The words of a block's key; they stay as long as the block may be seen. */
  public void key(int block, long[] into) {
    long[] page = pages[block >>> PAGE_SHIFT];
    int at = header(block) + 1;
    for (int i = 0; i < keyWords; i++) {
      into[i] = (long) WORD.getOpaque(page, at + i);
    }
  }

  /**
   * What a block was at a version.
   *
   * @param into given the key words, then the state words
   * @return whether the key was there; if the floor has passed the version, anything: see {@link
   *     #valid}
   */
  public boolean read(int block, long version, long[] into) {
    long[][] all = pages;
    long[] page = all[block >>> PAGE_SHIFT];
    int at = header(block);
    int wanted = (int) version;
    while (true) {
      long header = (long) WORD.getAcquire(page, at);
      for (int i = 0; i < keyWords; i++) {
        into[i] = (long) WORD.getOpaque(page, at + 1 + i);
      }
      if (isReached(header, wanted)) {
        for (int i = keyWords; i < keyWords + stateWords; i++) {
          into[i] = (long) WORD.getOpaque(page, at + 1 + i);
        }
        VarHandle.acquireFence();
        if ((long) WORD.getOpaque(page, at) == header) {
          return (header & DEAD) == 0;
        }
        continue;
      }
      // The key does not change while the block's death may still be seen: it is right as read.
      VarHandle.acquireFence();
      if (versions.floor() > version) {
        return false;
      }
      return readUndo((int) (header >>> 1) & Integer.MAX_VALUE, version, wanted, into);
    }
  }

  /**
   * Reads something of each block that is one, so that their loads wait for memory together.
   *
   * @return nothing of use
   */
  public long lookAhead(int[] which, int count) {
    long[][] all = pages;
    long seen = 0;
    for (int i = 0; i < count; i++) {
      if (which[i] < 0) {
        continue;
      }
      long[] page = all[which[i] >>> PAGE_SHIFT];
      int at = header(which[i]);
      seen += (long) WORD.getOpaque(page, at) + (long) WORD.getOpaque(page, at + blockWords - 1);
    }
    return seen;
  }

  private boolean readUndo(int first, long version, int wanted, long[] into) {
    int place = first;
    while (true) {
      long[] page = undo.page(place);
      if (page == null) {
        return false; // only if the floor has passed
      }
      int at = UndoLog.offset(place);
      long header = (long) WORD.getOpaque(page, at);
      for (int i = 0; i < stateWords && at + 2 + i < page.length; i++) {
        into[keyWords + i] = (long) WORD.getOpaque(page, at + 2 + i);
      }
      VarHandle.acquireFence();
      if (versions.floor() > version) {
        return false;
      }
      if (isReached(header, wanted)) {
        return (header & DEAD) == 0;
      }
      place = (int) (header >>> 1) & Integer.MAX_VALUE;
    }
  }

  /**
   * Whether what was read at a version without a pin is right. With a pin it always is, whether
   * something was found or nothing.
   */
  public boolean valid(long version) {
    VarHandle.acquireFence();
    return versions.floor() <= version;
  }

  /**
   * Looks a key up at a version.
   *
   * @param into given the key words, then the state words
   * @return its block, or {@link #NONE} if it was not there
   */
  public int lookup(long hash, long[] key, long version, long[] into) {
    return lookup(hash, key, 0, version, into);
  }

  /** As above; the key's words begin at {@code from}. */
  public int lookup(long hash, long[] key, int from, long version, long[] into) {
    long[] table = slots.table(hash);
    int mask = table.length - 1;
    int bits = SlotTable.bits(hash);
    for (int at = SlotTable.start(table, bits); ; at = at + 1 & mask) {
      long slot = (long) SlotTable.SLOT.getAcquire(table, at);
      if (slot == SlotTable.EMPTY) {
        return NONE;
      }
      if ((int) (slot >>> 32) == bits && slot != SlotTable.TOMBSTONE) {
        int block = SlotTable.block(slot);
        if (isAt(block, key, from, version, into)) {
          return block;
        }
      }
    }
  }

  /**
   * Reads what many keys lead to, so that the loads wait for memory together; for {@link #lookup}.
   *
   * @param keys one after the other
   * @param which of them
   * @param hashes set to theirs
   * @param blocks given the places that were looked at
   * @return nothing of use
   */
  public long lookAhead(long[] keys, int[] which, int count, long[] hashes, int[] blocks) {
    long seen = 0;
    for (int i = 0; i < count; i++) {
      hashes[i] = hashOf(keys, which[i] * keyWords);
      long[] table = slots.table(hashes[i]);
      int at = SlotTable.start(table, SlotTable.bits(hashes[i]));
      seen += (long) SlotTable.SLOT.getOpaque(table, at);
    }
    for (int i = 0; i < count; i++) {
      long[] table = slots.table(hashes[i]);
      int bits = SlotTable.bits(hashes[i]);
      long slot = (long) SlotTable.SLOT.getOpaque(table, SlotTable.start(table, bits));
      boolean leads = (int) (slot >>> 32) == bits && slot != SlotTable.TOMBSTONE;
      blocks[i] = leads && slot != SlotTable.EMPTY ? SlotTable.block(slot) : NONE;
    }
    return seen + lookAhead(blocks, count);
  }

  /** The version that is written, if nobody writes just now: what is read at it is the newest. */
  public long newest() {
    return versions.writing();
  }

  /**
   * The block of a key whether it is there or not, as long as its death may still be seen; or
   * {@link #NONE}. Any thread.
   */
  public int whereIs(long hash, long[] key, int from) {
    long[] table = slots.table(hash);
    int mask = table.length - 1;
    int bits = SlotTable.bits(hash);
    for (int at = SlotTable.start(table, bits); ; at = at + 1 & mask) {
      long slot = (long) SlotTable.SLOT.getAcquire(table, at);
      if (slot == SlotTable.EMPTY) {
        return NONE;
      }
      if ((int) (slot >>> 32) == bits && slot != SlotTable.TOMBSTONE) {
        int block = SlotTable.block(slot);
        if (hasKey(block, key, from)) {
          return block;
        }
      }
    }
  }

  /** Whether a block has a key; its header moves before it gets another. */
  private boolean hasKey(int block, long[] key, int from) {
    long[] page = pages[block >>> PAGE_SHIFT];
    int at = header(block);
    while (true) {
      long header = (long) WORD.getAcquire(page, at);
      boolean same = true;
      for (int i = 0; i < keyWords && same; i++) {
        same = (long) WORD.getOpaque(page, at + 1 + i) == key[from + i];
      }
      VarHandle.acquireFence();
      if ((long) WORD.getOpaque(page, at) == header) {
        return same;
      }
    }
  }

  /** Whether a block has a key and is there at a version; {@code into} is given its words if so. */
  public boolean isAt(int block, long[] key, int from, long version, long[] into) {
    boolean same = read(block, version, into);
    for (int i = 0; i < keyWords && same; i++) {
      same = into[i] == key[from + i];
    }
    return same;
  }

  /** Blocks that may have been in use at the newest version: all below this number. */
  public int blockLimit() {
    return blocks;
  }

  /** Takes a block of a checkpoint: key words, then state words, at the start of an array. */
  @FunctionalInterface
  public interface BlockSink {
    void block(long[] words);
  }

  /** Gives what changed after one version and was there at another, which is pinned. Any thread. */
  public void changedSince(long after, long version, BlockSink sink) {
    long[] words = new long[keyWords + stateWords];
    int limit = blocks;
    for (int block = 0; block < limit; block++) {
      long changed = read(block, version, words) ? changedAt(block, version) : -1;
      if (changed > after) {
        sink.block(words);
      }
    }
  }

  /** The version of the last change to a block that a version shows. */
  private long changedAt(int block, long version) {
    long header = (long) WORD.getAcquire(pages[block >>> PAGE_SHIFT], header(block));
    while (!isReached(header, (int) version)) {
      int place = (int) (header >>> 1) & Integer.MAX_VALUE;
      header = (long) WORD.getOpaque(undo.page(place), UndoLog.offset(place));
    }
    return version + ((int) (header >>> 32) - (int) version);
  }
}
