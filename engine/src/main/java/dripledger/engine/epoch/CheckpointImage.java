package dripledger.engine.epoch;

import dripledger.engine.source.InputProgress;
import dripledger.engine.state.Durable;
import java.util.List;

/**
 * The state of all nodes at the end of one epoch, as noted for a checkpoint; encoded later.
 *
 * @param sequence the ledger's sequence it stands for
 * @param settled the positions of all inputs it stands for, and what was rejected or replayed since
 *     the last checkpoint
 * @param nanos how long noting took: the epoch loop stood still meanwhile
 */
public record CheckpointImage(
    long epoch, long sequence, InputProgress settled, List<Node> nodes, long nanos) {
  /**
   * One stream, table or view.
   *
   * @param instance which of the nodes that had this number it is
   * @param plan what its state was made by; state of another plan is of no use
   * @param figures null if the node failed and is not to be restored
   * @param parts null where nothing changed
   */
  public record Node(
      long id, long instance, String plan, byte[] figures, List<Durable.Capture> parts) {}
}
