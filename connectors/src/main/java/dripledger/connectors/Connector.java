package dripledger.connectors;

import dripledger.connectors.format.DriftLog;
import dripledger.connectors.message.MessageReader;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Page;
import dripledger.engine.source.Feed;
import dripledger.engine.source.Listing;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.PartitionSink;
import dripledger.engine.source.Proposal;
import dripledger.engine.source.RawMessage;
import dripledger.engine.source.Reject;
import dripledger.engine.source.SourceSink;
import dripledger.engine.source.Target;
import java.util.List;
import java.util.function.LongFunction;

/**
 * One type of outside system; see {@link dripledger.engine.source.Connectors} for what each call
 * means. Stateless but for what its feeds hold; safe from any thread.
 */
public interface Connector {
  void check(ConnectionOptions options);

  List<Listing> list(ConnectionOptions options);

  List<RawMessage> peek(ConnectionOptions options, String name, String from, int count);

  default void createTopic(
      ConnectionOptions options, String name, int partitions, Long retentionMillis) {
    throw new EngineException(
        Code.INVALID, "\"" + options.name() + "\" has no topics", "topics are made at brokers");
  }

  Proposal propose(ConnectionOptions options, SourceSpec source, boolean keyed);

  SourcePosition begin(ConnectionOptions options, CatalogObject object);

  /** Whether all tables of a connection share one feed. */
  default boolean shared() {
    return false;
  }

  /**
   * @param drift the log of each object
   */
  Feed open(
      ConnectionOptions options,
      List<CatalogObject> objects,
      SourcePosition from,
      SourceSink sink,
      LongFunction<DriftLog> drift);

  void read(
      ConnectionOptions options,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to,
      Page template,
      PartitionSink sink);

  /** What reads single messages of an object, such as those that were rejected and repaired. */
  default MessageReader reader(ConnectionOptions options, CatalogObject object) {
    return new MessageReader(object, null);
  }

  /** Reads kept messages again; see {@link dripledger.engine.source.Connectors#again}. */
  default List<Object[]> again(
      ConnectionOptions options, CatalogObject.Stream stream, int partition, Page messages) {
    throw new EngineException(
        Code.INVALID,
        "the events \"" + stream.name() + "\" keeps were taken without the column",
        "leave WITH REPLAY out: the column is NULL in events from before");
  }

  /** What of a range cannot be read again, for the user; null if all of it can. */
  default String missing(
      ConnectionOptions options,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to) {
    return null;
  }

  /** Where a later row of the same key says more than an earlier one only a broker can tell. */
  default List<Boolean> overtaken(
      ConnectionOptions options,
      CatalogObject.Table table,
      List<Reject> rejects,
      List<Page> operations,
      SourcePosition to) {
    throw new EngineException(
        Code.INVALID,
        "rejects of a table from files cannot be replayed",
        "put the corrected line into a new file: the last line of a key is the one that counts");
  }

  /** Checks where a delivery is to go, and makes what its options ask for. */
  default void prepare(ConnectionOptions options, CatalogObject.Sink sink) {
    throw undeliverable(options);
  }

  /** The first changes as they would be carried. */
  default List<String> preview(
      ConnectionOptions options, CatalogObject.Sink sink, List<Outgoing.Change> changes) {
    throw undeliverable(options);
  }

  /** Opens the way to where a delivery goes. */
  default Target target(ConnectionOptions options, CatalogObject.Sink sink, String identity) {
    throw undeliverable(options);
  }

  /** Takes away what stands at the target of how far a delivery had come, if anything does. */
  default void forget(ConnectionOptions options, CatalogObject.Sink sink, String identity) {}

  /** Sends once more a message that the target had refused. */
  default void resend(ConnectionOptions options, CatalogObject.Sink sink, byte[] message) {
    throw undeliverable(options);
  }

  private static EngineException undeliverable(ConnectionOptions options) {
    return new EngineException(
        Code.INVALID,
        "nothing can be delivered to \"" + options.name() + "\"",
        "deliveries go to topics of a broker, tables of a database, folders and addresses");
  }

  default void release(ConnectionOptions options) {}

  /** Gives back what the source holds for us and other options no longer speak of. */
  default void altered(ConnectionOptions before, ConnectionOptions after) {}
}
