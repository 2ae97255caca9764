package dripledger.connectors.drip;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.Connector;
import dripledger.connectors.DeclaredColumns;
import dripledger.connectors.drip.DripAccess.Relation;
import dripledger.connectors.format.DriftLog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.source.Feed;
import dripledger.engine.source.Listing;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.PartitionSink;
import dripledger.engine.source.Proposal;
import dripledger.engine.source.RawMessage;
import dripledger.engine.source.SourceSink;
import dripledger.engine.source.Target;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.LongFunction;

/** Another service of ours, whose views and tables with a key are tables here. */
public final class DripConnector implements Connector {
  private static final Set<String> OPTIONS = Set.of("view");

  @Override
  public void check(ConnectionOptions options) {
    new DripAccess(options).check();
  }

  @Override
  public List<Listing> list(ConnectionOptions options) {
    List<Listing> listings = new ArrayList<>();
    for (Relation r : new DripAccess(options).relations()) {
      listings.add(new Listing(r.name(), "view", 1, r.rows(), -1, -1, r.key(), r.obstacle()));
    }
    return listings;
  }

  @Override
  public List<RawMessage> peek(ConnectionOptions options, String name, String from, int count) {
    DripAccess access = new DripAccess(options);
    List<RawMessage> messages = new ArrayList<>();
    for (byte[] row : access.rows(access.relation(name), count)) {
      messages.add(new RawMessage(0, messages.size() + 1L, null, null, Map.of(), row));
    }
    return messages;
  }

  /** The relation that a clause names. */
  static Relation relation(DripAccess access, SourceSpec source) {
    ConnectionOptions.check(source.options().keySet(), OPTIONS, "a view of another service");
    if (source.format() != null) {
      throw new EngineException(Code.INVALID, "rows of a view have no FORMAT", "leave FORMAT out");
    }
    if (source.option("view") == null) {
      throw new EngineException(
          Code.INVALID,
          "which view of \"" + source.connection() + "\"?",
          "write FROM " + source.connection() + " (view '…')");
    }
    return access.relation(source.option("view"));
  }

  private static EngineException notAStream() {
    return new EngineException(
        Code.INVALID, "rows of a view change, so they are not a stream", "write CREATE TABLE");
  }

  @Override
  public Proposal propose(ConnectionOptions options, SourceSpec source, boolean keyed) {
    if (!keyed) {
      throw notAStream();
    }
    Relation relation = relation(new DripAccess(options), source);
    List<Proposal.Proposed> columns =
        relation.columns().stream().map(Proposal.Proposed::unseen).toList();
    refuse(relation);
    return new Proposal(columns, null, relation.key(), 0, 0);
  }

  private static void refuse(Relation relation) {
    if (relation.obstacle() != null) {
      throw new EngineException(
          Code.INVALID,
          "\"" + relation.name() + "\" cannot be followed: " + relation.obstacle(),
          "group it there, or declare KEY (…) with it");
    }
  }

  @Override
  public SourcePosition begin(ConnectionOptions options, CatalogObject object) {
    if (!(object instanceof CatalogObject.Table table)) {
      throw notAStream();
    }
    Relation relation = relation(new DripAccess(options), table.source());
    refuse(relation);
    String name = '"' + relation.name() + '"';
    List<String> key = DeclaredColumns.key(table, name, relation.key(), null);
    for (int i = 0; i < table.schema().size(); i++) {
      if (!table.origins().meta().containsKey(i)) {
        Column declared = table.schema().column(i);
        Column there = DeclaredColumns.find(name, relation.columns(), declared);
        if (!key.contains(declared.name())) { // a row without a key is a reject
          DeclaredColumns.checkNull(there, declared, "there");
        }
      }
    }
    return new SourcePosition("0");
  }

  @Override
  public Feed open(
      ConnectionOptions options,
      List<CatalogObject> objects,
      SourcePosition from,
      SourceSink sink,
      LongFunction<DriftLog> drift) {
    CatalogObject.Table table = (CatalogObject.Table) objects.get(0);
    return new DripFeed(new DripAccess(options), table, sink, drift.apply(table.id()));
  }

  @Override
  public void read(
      ConnectionOptions options,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to,
      Page template,
      PartitionSink sink) {
    throw notAStream();
  }

  private static EngineException readOnly(ConnectionOptions options) {
    return new EngineException(
        Code.INVALID,
        "nothing is delivered to \"" + options.name() + "\": it follows us instead",
        "there: CREATE TABLE … FROM a connection of type drip to this service");
  }

  @Override
  public void prepare(ConnectionOptions options, CatalogObject.Sink sink) {
    throw readOnly(options);
  }

  @Override
  public List<String> preview(
      ConnectionOptions options, CatalogObject.Sink sink, List<Outgoing.Change> changes) {
    throw readOnly(options);
  }

  @Override
  public Target target(ConnectionOptions options, CatalogObject.Sink sink, String identity) {
    throw readOnly(options);
  }
}
