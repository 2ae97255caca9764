package dripledger.engine.circuit;

import dripledger.engine.state.Durable;
import dripledger.engine.state.StateChunks;
import dripledger.engine.store.KeyedStore;
import dripledger.engine.store.Versions;
import java.util.List;

/**
 * Kept rows as a checkpoint saves them: each with its key, as {@link StateChunks#rows} chunks. A
 * capture pins the version it stands for; the rows are read when it is encoded, beside the writer.
 */
final class SavedRows implements Durable {
  private final KeptRows rows;
  private Versions versions;

  SavedRows(KeptRows rows, Versions versions) {
    this.rows = rows;
    this.versions = versions;
  }

  /** Goes over to another clock. */
  void join(Versions other) {
    versions = other;
  }

  @Override
  public Capture capture(boolean whole) {
    KeyedStore.Saved saved = rows.store().save(whole);
    if (saved == null) {
      return null;
    }
    Versions.Pin pin = versions.pinFirmly();
    return new Capture() {
      @Override
      public void encode(ChunkSink sink) {
        StateChunks.RowsWriter writer = StateChunks.rows(sink);
        for (long[] gone : saved.gone()) {
          writer.put(GroupKeys.unpacked(gone), new byte[0], 0, 0, 0);
        }
        rows.store().changedSince(saved.after(), pin.version(), words -> rows.save(words, writer));
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
    StateChunks.readRows(chunks, rows::restore);
    versions.publish();
    rows.store().saved();
  }
}
