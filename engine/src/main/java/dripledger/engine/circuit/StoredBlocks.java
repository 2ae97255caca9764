package dripledger.engine.circuit;

import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.KeyedStore;
import java.util.List;

/** Blocks saved by key as they are, words and all: {@link StateChunks#keyed} chunks. */
record StoredBlocks(KeyedStore store) implements SavedStore.Form {
  @Override
  public void encode(KeyedStore.Saved saved, long version, Durable.ChunkSink sink) {
    StateChunks.KeyedWriter writer = StateChunks.keyed(store.keyWords(), store.stateWords(), sink);
    saved.gone().forEach(writer::gone);
    store.changedSince(saved.after(), version, writer::put);
    writer.end();
  }

  @Override
  public void restore(List<byte[]> chunks) {
    StateChunks.readKeyed(
        chunks, store.keyWords(), store.stateWords(), store::restore, store::forget);
  }
}
