package dripledger.engine.source;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import java.util.List;

/** Refuses every connection. */
final class NoConnectors implements Connectors {
  private static EngineException none() {
    return new EngineException(Code.NOT_SUPPORTED, "this engine has no connectors", null);
  }

  @Override
  public void check(CatalogObject.Connection connection) {
    throw none();
  }

  @Override
  public String health(CatalogObject.Connection connection) {
    return null;
  }

  @Override
  public List<Listing> list(CatalogObject.Connection connection) {
    throw none();
  }

  @Override
  public List<RawMessage> peek(
      CatalogObject.Connection connection, String name, String from, int count) {
    throw none();
  }

  @Override
  public void createTopic(
      CatalogObject.Connection connection, String name, int partitions, Long retentionMillis) {
    throw none();
  }

  @Override
  public Proposal propose(CatalogObject.Connection connection, SourceSpec source, boolean keyed) {
    throw none();
  }

  @Override
  public SourcePosition begin(CatalogObject.Connection connection, CatalogObject object) {
    throw none();
  }

  @Override
  public String missing(
      CatalogObject.Connection connection,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to) {
    return null;
  }

  @Override
  public boolean shared(String connectionType) {
    return false;
  }

  @Override
  public Feed open(
      CatalogObject.Connection connection,
      List<CatalogObject> objects,
      SourcePosition from,
      SourceSink sink) {
    throw none();
  }

  @Override
  public void read(
      CatalogObject.Connection connection,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to,
      Page template,
      PartitionSink sink) {
    throw none();
  }

  @Override
  public void prepare(CatalogObject.Connection connection, CatalogObject.Sink sink) {
    throw none();
  }

  @Override
  public List<String> preview(
      CatalogObject.Connection connection, CatalogObject.Sink sink, List<Outgoing.Change> changes) {
    throw none();
  }

  @Override
  public Target target(
      CatalogObject.Connection connection, CatalogObject.Sink sink, String identity) {
    throw none();
  }

  @Override
  public void resend(CatalogObject.Connection connection, CatalogObject.Sink sink, byte[] message) {
    throw none();
  }

  @Override
  public byte[] message(RowLayout layout, byte[] row) {
    return null;
  }

  @Override
  public void decode(
      CatalogObject.Connection connection,
      CatalogObject object,
      byte[] key,
      byte[] raw,
      Page into) {
    throw none();
  }

  @Override
  public List<Boolean> overtaken(
      CatalogObject.Connection connection,
      CatalogObject.Table table,
      List<Reject> rejects,
      List<Page> operations,
      SourcePosition to) {
    throw none();
  }

  @Override
  public List<Drift> drift(long objectId) {
    return List.of();
  }

  @Override
  public void release(CatalogObject.Connection connection) {}

  @Override
  public void altered(CatalogObject.Connection before, CatalogObject.Connection after) {}

  @Override
  public List<Object[]> again(
      CatalogObject.Connection connection,
      CatalogObject.Stream stream,
      int partition,
      Page messages) {
    throw none();
  }
}
