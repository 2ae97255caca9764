package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.state.Durable;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;

/** Told of a node's delta at the end of each epoch that has one, on the loop's thread. */
public interface ChangeListener {
  /** The page must not be kept. */
  void changed(long epoch, Page delta);

  /** Nothing more will come. */
  default void ended(String reason) {}

  /** What a checkpoint saves of it, or null for nothing. */
  default Durable durable() {
    return null;
  }

  /** Writes what it knows besides that. */
  default void save(DataOutputStream out) throws IOException {}

  /** Reads what was written, once the durable part is there. */
  default void restore(DataInputStream in) throws IOException {}
}
