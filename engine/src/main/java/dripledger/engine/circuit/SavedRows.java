package dripledger.engine.circuit;

import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.KeyedStore;
import java.util.List;

/** Kept rows saved each with its key: {@link StateChunks#rows} chunks. */
record SavedRows(KeptRows rows) implements SavedStore.Form {
  @Override
  public void encode(KeyedStore.Saved saved, long version, Durable.ChunkSink sink) {
    StateChunks.RowsWriter writer = StateChunks.rows(sink);
    for (long[] gone : saved.gone()) {
      writer.put(GroupKeys.unpacked(gone), new byte[0], 0, 0, 0);
    }
    rows.store().changedSince(saved.after(), version, words -> rows.save(words, writer));
    writer.end();
  }

  @Override
  public void restore(List<byte[]> chunks) {
    StateChunks.readRows(chunks, rows::restore);
  }
}
