package dripledger.engine.circuit;

import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.List;

/**
 * The blocks of a keyed store as a checkpoint saves them: by key, as {@link StateChunks#keyed}
 * chunks. A capture pins the version it stands for; the blocks are read when it is encoded, beside
 * the writer.
 */
final class StoredBlocks implements Durable {
  private final KeyedStore store;
  private Versions versions;

  StoredBlocks(KeyedStore store, Versions versions) {
    this.store = store;
    this.versions = versions;
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
        StateChunks.KeyedWriter writer =
            StateChunks.keyed(store.keyWords(), store.stateWords(), sink);
        saved.gone().forEach(writer::gone);
        store.changedSince(saved.after(), pin.version(), writer::put);
        writer.end();
      }

      @Override
      public void close() {
        pin.close();
      }
    };
  }

  @Override
  public void restore(List<byte[]> chunks) {
    StateChunks.readKeyed(
        chunks, store.keyWords(), store.stateWords(), store::restore, store::forget);
    versions.publish();
    store.saved();
  }
}
