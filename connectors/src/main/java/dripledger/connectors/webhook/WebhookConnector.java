package dripledger.connectors.webhook;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.Connector;
import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.Folded;
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
import dripledger.engine.source.SourceSink;
import dripledger.engine.source.Target;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.List;
import java.util.function.LongFunction;

/** An address that takes what is delivered over HTTP; nothing is read from it. */
public final class WebhookConnector implements Connector {
  @Override
  public void check(ConnectionOptions options) {
    new WebhookAccess(options).check();
  }

  @Override
  public void prepare(ConnectionOptions options, CatalogObject.Sink sink) {
    new WebhookAccess(options).check();
    WebhookTarget.check(sink);
  }

  @Override
  public List<String> preview(
      ConnectionOptions options, CatalogObject.Sink sink, List<Outgoing.Change> changes) {
    WebhookTarget.check(sink);
    String address = new WebhookAccess(options).address(sink.target().option("path", ""));
    byte[] body = WebhookTarget.body(sink, new Outgoing(0, 0, changes), 0, changes.size());
    List<String> lines = new ArrayList<>(List.of("POST " + address));
    lines.addAll(Folded.of(new String(body, StandardCharsets.UTF_8)));
    return lines;
  }

  @Override
  public Target target(ConnectionOptions options, CatalogObject.Sink sink, String identity) {
    return new WebhookTarget(new WebhookAccess(options), sink, identity);
  }

  @Override
  public void resend(ConnectionOptions options, CatalogObject.Sink sink, byte[] message) {
    new WebhookTarget(new WebhookAccess(options), sink, "again").resend(message);
  }

  @Override
  public List<Listing> list(ConnectionOptions options) {
    return List.of();
  }

  @Override
  public List<RawMessage> peek(ConnectionOptions options, String name, String from, int count) {
    throw deliversOnly(options);
  }

  @Override
  public Proposal propose(ConnectionOptions options, SourceSpec source, boolean keyed) {
    throw deliversOnly(options);
  }

  @Override
  public SourcePosition begin(ConnectionOptions options, CatalogObject object) {
    throw deliversOnly(options);
  }

  @Override
  public Feed open(
      ConnectionOptions options,
      List<CatalogObject> objects,
      SourcePosition from,
      SourceSink sink,
      LongFunction<DriftLog> drift) {
    throw deliversOnly(options);
  }

  @Override
  public void read(
      ConnectionOptions options,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to,
      Page template,
      PartitionSink sink) {
    throw deliversOnly(options);
  }

  private static EngineException deliversOnly(ConnectionOptions options) {
    return new EngineException(
        Code.INVALID,
        "nothing can be read from \"" + options.name() + "\": it only takes what is delivered",
        "events that are sent to us go to POST /api/v1/streams/{name}");
  }
}
