package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import dripledger.engine.view.RelationVersion;
import java.util.List;

/** Rows that are kept because no operator's state holds them. Written by one thread. */
public interface KeptRelation {
  /**
   * Takes in a delta.
   *
   * @throws IllegalStateException if it cannot be: a row goes that is not there, or a key comes
   *     twice
   */
  void apply(Page delta);

  /** How many rows there are. */
  long count();

  /** Says by which other columns its rows are found; by the writer. */
  void orders(List<int[]> columns);

  /** The rows as the version shows them that was published last; by the writer. */
  RelationVersion version(long version);

  /** In which form rows are kept: saved rows of another form are of no use. */
  String form();

  /** What a checkpoint saves. */
  Durable durable();

  /** Says that the durable part was restored. */
  void restored();

  /** From now on its rows change with those of others, and their clock shows it. */
  void join(Versions graph);

  /** Leaves the graph it has joined. */
  void leave();

  /** Heap held, in bytes. */
  long heapBytes();
}
