package dripledger.engine.circuit;

import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;

/**
 * A keyed store as a checkpoint saves it: an entry a key, of whatever its owner makes of the block,
 * so that nothing in it is a place in memory. A capture pins the version it stands for; the blocks
 * are read when it is encoded, beside the writer.
 */
final class SavedStore implements Durable {
  private final KeyedStore store;
  private final GroupKeys keys;
  private final Form form;
  private Versions versions;

  /** What blocks are saved as. */
  interface Form {
    /** Writes the value of an entry; the pinned version shows what the words refer to. */
    long save(long[] block, StateChunks.Writer out);

    /** Puts an entry in as it was saved, or takes it out if its count is 0. */
    void restore(long[] key, byte[] bytes, int value, int length, long count);
  }

  SavedStore(KeyedStore store, GroupKeys keys, Versions versions, Form form) {
    this.store = store;
    this.keys = keys;
    this.versions = versions;
    this.form = form;
    store.goneKey(keys::saved);
  }

  /** Puts in a key whose state is one word, or takes it out if that is 0. */
  static void restore(KeyedStore store, long[] key, long word) {
    long hash = store.hashOf(key, 0);
    if (word != 0) {
      int block = store.changeOrInsert(hash, key, 0);
      store.page(block)[store.state(block)] = word;
      return;
    }
    int block = store.find(hash, key, 0);
    if (block != KeyedStore.NONE && store.isLive(block)) {
      store.remove(block);
    }
  }

  /** Goes over to another clock. */
  void join(Versions other) {
    versions = other;
  }

  @Override
  public Capture capture(boolean whole) {
    KeyedStore.Saved saved = store.save(whole);
    if (saved == null) {
      return null;
    }
    Versions.Pin pin = versions.pinFirmly();
    return new Capture() {
      @Override
      public void encode(ChunkSink sink) {
        SavedStore.this.encode(saved, pin.version(), sink);
      }

      @Override
      public void close() {
        pin.close();
      }
    };
  }

  private void encode(KeyedStore.Saved saved, long version, ChunkSink sink) {
    StateChunks.Writer writer = StateChunks.entries(sink);
    for (byte[] gone : saved.gone()) {
      writer.key(gone, 0, gone.length).end(0);
    }
    store.changedSince(
        saved.after(),
        version,
        block -> {
          byte[] key = keys.saved(block, 0);
          writer.key(key, 0, key.length);
          writer.end(form.save(block, writer));
        });
    writer.close();
  }

  @Override
  public void restore(Chunks chunks) {
    long[] key = new long[keys.words()];
    StateChunks.readEntries(
        chunks,
        (bytes, at, keyLength, length, count) -> {
          keys.restore(bytes, at, keyLength, key);
          form.restore(key, bytes, at + keyLength, length, count);
        });
    versions.publish();
    store.saved();
  }
}
