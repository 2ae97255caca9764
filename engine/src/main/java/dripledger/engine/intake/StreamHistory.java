package dripledger.engine.intake;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.PartitionSink;
import dripledger.engine.time.PartitionMarks;
import dripledger.engine.view.Snapshot;
import java.util.Collection;
import java.util.List;
import java.util.Map;
import java.util.Objects;
import java.util.concurrent.ConcurrentHashMap;
import java.util.function.Consumer;
import java.util.function.LongFunction;
import java.util.function.Supplier;
import java.util.stream.Collectors;

/**
 * Reads the events of a stream again: from the ledger what was pushed or retained, from its source
 * what was not. Safe from any thread.
 */
public final class StreamHistory {
  private final Ledger ledger;
  private final Connectors connectors;
  private final Supplier<Catalog> catalog;
  private final LongFunction<List<PartitionMarks.Return>> returns;
  private final Widening widening;
  private final Map<Long, SourcePosition> begins = new ConcurrentHashMap<>();

  /**
   * @param returns where partitions of a stream came back that had been set aside
   */
  public StreamHistory(
      Ledger ledger,
      Connectors connectors,
      Supplier<Catalog> catalog,
      LongFunction<List<PartitionMarks.Return>> returns) {
    this.ledger = ledger;
    this.connectors = connectors;
    this.catalog = catalog;
    this.returns = returns;
    widening = new Widening(ledger, connectors, catalog);
  }

  /** What brings retained events to the columns their stream has now. */
  public Widening widening() {
    return widening;
  }

  /** Says where the reading of an input began. */
  public void begin(long inputId, SourcePosition position) {
    begins.put(inputId, position);
  }

  /** What an input fed is gone. */
  void forget(long inputId) {
    begins.remove(inputId);
  }

  /** Where the reading of an input began, or null. */
  public SourcePosition begin(long inputId) {
    return begins.get(inputId);
  }

  /** Gives the events from the start up to an epoch, each marked as it was when it came. */
  public void read(long id, RowLayout layout, Snapshot at, Consumer<Page> pages) {
    PartitionSink sink = marking(catalog.get().find(id), pages);
    if (at.sequence() > 0) {
      ledger.read(id, new Page(layout), 0, at.sequence(), sink);
    }
    if (catalog.get().find(id) instanceof CatalogObject.Stream stream && !stream.inLedger()) {
      SourcePosition begin = begins.get(id);
      SourcePosition to = at.positions().getOrDefault(id, begin);
      if (!to.equals(begin)) {
        connectors.read(
            catalog.get().connectionOf(stream), stream, begin, to, new Page(layout), sink);
      }
    }
  }

  /**
   * What of streams' events up to an epoch cannot be read again.
   *
   * @param ids of relations, of which only streams have events
   * @return a sentence for the user without its end, or null
   */
  public String missing(Collection<Long> ids, Snapshot at) {
    String missing =
        ids.stream()
            .map(catalog.get()::find)
            .filter(CatalogObject.Stream.class::isInstance)
            .map(stream -> missing((CatalogObject.Stream) stream, at))
            .filter(Objects::nonNull)
            .collect(Collectors.joining("; "));
    return missing.isEmpty() ? null : missing;
  }

  private String missing(CatalogObject.Stream stream, Snapshot at) {
    if (stream.inLedger()) {
      long forgotten = ledger.forgotten(stream.id());
      return forgotten == 0
          ? null
          : "the first "
              + forgotten
              + (forgotten == 1 ? " event" : " events")
              + " of \""
              + stream.name()
              + "\" are no longer retained";
    }
    SourcePosition begin = begins.get(stream.id());
    SourcePosition to = at.positions().getOrDefault(stream.id(), begin);
    return to.equals(begin)
        ? null
        : connectors.missing(catalog.get().connectionOf(stream), stream, begin, to);
  }

  private PartitionSink marking(CatalogObject object, Consumer<Page> pages) {
    if (!(object instanceof CatalogObject.Stream stream) || stream.eventTime() < 0) {
      return (page, partition) -> pages.accept(page);
    }
    PartitionMarks marks =
        PartitionMarks.again(stream.latenessMicros(), returns.apply(stream.id()));
    return (page, partition) -> {
      marks.mark(partition, page, stream.eventTime());
      pages.accept(page);
    };
  }
}
