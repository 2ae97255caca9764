package dripledger.engine.source;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import java.util.List;

/**
 * The outside systems, as the engine asks for them. Every method may block on the network and
 * throws {@link dripledger.engine.error.EngineException} with a sentence of its own for each thing
 * that can be wrong. Safe from any thread.
 */
public interface Connectors {
  /** Checks type and options and tries the connection live. */
  void check(CatalogObject.Connection connection);

  /** What the last check in the background found wrong with the connection, or null. */
  String health(CatalogObject.Connection connection);

  /** Topics, tables or files behind the connection. */
  List<Listing> list(CatalogObject.Connection connection);

  /**
   * Raw messages of a topic or lines of a file.
   *
   * @param from {@code earliest}, {@code latest} or an ISO timestamp
   * @param count how many at most
   */
  List<RawMessage> peek(CatalogObject.Connection connection, String name, String from, int count);

  /** Makes a topic. */
  void createTopic(
      CatalogObject.Connection connection, String name, int partitions, Long retentionMillis);

  /** Reads a sample and proposes columns. */
  Proposal propose(CatalogObject.Connection connection, SourceSpec source, boolean keyed);

  /**
   * Checks a definition against its source.
   *
   * @return where reading begins, told once and kept
   */
  SourcePosition begin(CatalogObject.Connection connection, CatalogObject object);

  /** Whether all tables of a connection of this type share one feed and are loaded first. */
  boolean shared(String connectionType);

  /** Starts reading. {@code objects} is one stream or table, or all of a shared connection. */
  Feed open(
      CatalogObject.Connection connection,
      List<CatalogObject> objects,
      SourcePosition from,
      SourceSink sink);

  /**
   * Reads the events of a stream between two positions again.
   *
   * @param template an empty page of the stream's layout
   * @param sink given pages it may keep
   */
  void read(
      CatalogObject.Connection connection,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to,
      Page template,
      PartitionSink sink);

  /**
   * Checks where a delivery is to go, and makes what its options ask for.
   *
   * @throws dripledger.engine.error.EngineException if it cannot be delivered there as it is
   */
  void prepare(CatalogObject.Connection connection, CatalogObject.Sink sink);

  /** The first changes as they would be carried: messages, or statements and rows. */
  List<String> preview(
      CatalogObject.Connection connection, CatalogObject.Sink sink, List<Outgoing.Change> changes);

  /**
   * Opens the way to where a delivery goes.
   *
   * @param identity what the target knows it by
   */
  Target target(CatalogObject.Connection connection, CatalogObject.Sink sink, String identity);

  /**
   * A delivery has been dropped: takes away what stands at the target of how far it had come; what
   * was delivered stays.
   */
  default void forget(
      CatalogObject.Connection connection, CatalogObject.Sink sink, String identity) {}

  /**
   * Sends once more a message that a delivery's target had refused.
   *
   * @throws dripledger.engine.error.EngineException if it is refused again
   */
  void resend(CatalogObject.Connection connection, CatalogObject.Sink sink, byte[] message);

  /** A row as a message: JSON, an object of its columns by name. */
  byte[] message(RowLayout layout, byte[] row);

  /**
   * Reads one repaired message into a page of the object's rows.
   *
   * @param connection that the object reads; null if its messages are pushed
   */
  void decode(
      CatalogObject.Connection connection, CatalogObject object, byte[] key, byte[] raw, Page into);

  /**
   * What of the events between two positions the source does not have any more.
   *
   * @return what is missing, for the user, or null
   */
  String missing(
      CatalogObject.Connection connection,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to);

  /**
   * Reads kept messages of a stream again.
   *
   * @return for each the values of the columns, or null if it cannot be read
   * @throws dripledger.engine.error.EngineException if this source's messages are not kept
   */
  List<Object[]> again(
      CatalogObject.Connection connection,
      CatalogObject.Stream stream,
      int partition,
      Page messages);

  /**
   * Which of some messages of a keyed table a later message for the same row has overtaken.
   *
   * @param rejects the messages as they came, oldest first
   * @param operations what each says once it is repaired, see {@link KeyedRows}
   * @param to how far the table has been read
   * @return for each whether there is a later one
   */
  List<Boolean> overtaken(
      CatalogObject.Connection connection,
      CatalogObject.Table table,
      List<Reject> rejects,
      List<Page> operations,
      SourcePosition to);

  /** Fields that were met and are not declared, and values that do not fit, since the start. */
  List<Drift> drift(long objectId);

  /** Gives back what the source holds for us: called when a connection or its last table goes. */
  void release(CatalogObject.Connection connection);

  /** Gives back what the source holds for us under options that a connection no longer has. */
  void altered(CatalogObject.Connection before, CatalogObject.Connection after);

  /** No outside systems: for engines on their own. */
  Connectors NONE = new NoConnectors();
}
