package dripledger.engine.circuit;

import dripledger.engine.state.Durable;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.List;

/**
 * A keyed store as a checkpoint saves it, in whichever form its owner gives. A capture pins the
 * version it stands for; the blocks are read when it is encoded, beside the writer.
 */
final class SavedStore implements Durable {
  private final KeyedStore store;
  private final Form form;
  private Versions versions;

  /** What blocks are saved as. */
  interface Form {
    /** Writes keys that went, and blocks that changed and are readable at a version. */
    void encode(KeyedStore.Saved saved, long version, ChunkSink sink);

    /** Puts everything in as it was saved. */
    void restore(List<byte[]> chunks);
  }

  SavedStore(KeyedStore store, Versions versions, Form form) {
    this.store = store;
    this.versions = versions;
    this.form = form;
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
        form.encode(saved, pin.version(), sink);
      }

      @Override
      public void close() {
        pin.close();
      }
    };
  }

  @Override
  public void restore(List<byte[]> chunks) {
    form.restore(chunks);
    versions.publish();
    store.saved();
  }
}
