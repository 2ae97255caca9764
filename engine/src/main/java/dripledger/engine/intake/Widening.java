package dripledger.engine.intake;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.KeptMessages;
import dripledger.engine.source.Ledger;
import java.util.List;
import java.util.function.Supplier;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;

/**
 * Reads columns that a stream has been given out of the messages that are kept with its retained
 * events. What is there of an event stays as it is. Stateless.
 */
public final class Widening {
  private static final Logger LOG = LoggerFactory.getLogger(Widening.class);

  private final Ledger ledger;
  private final Connectors connectors;
  private final Supplier<Catalog> catalog;

  public Widening(Ledger ledger, Connectors connectors, Supplier<Catalog> catalog) {
    this.ledger = ledger;
    this.connectors = connectors;
    this.catalog = catalog;
  }

  /** Whether a stream's events are kept with their messages. */
  private static boolean keepsMessages(CatalogObject.Stream stream) {
    return stream.source() != null && stream.inLedger();
  }

  /**
   * Refuses a stream whose events are kept without their messages.
   *
   * @throws EngineException (INVALID) with the way out
   */
  public void check(CatalogObject.Stream stream) {
    if (!keepsMessages(stream)) {
      throw new EngineException(
          EngineException.Code.INVALID,
          "the events \"" + stream.name() + "\" keeps were taken without the column",
          "leave WITH REPLAY out: the column is NULL in events from before");
    }
    connectors.again(catalog.get().connectionOf(stream), stream, 0, new Page(KeptMessages.LAYOUT));
  }

  /** Brings all events of a stream to the columns it has now. */
  public void widen(CatalogObject.Stream stream) {
    if (!keepsMessages(stream)) {
      return;
    }
    RowLayout layout = new RowLayout(stream.schema());
    CatalogObject.Connection connection = catalog.get().connectionOf(stream);
    ledger.widen(
        stream.id(),
        layout,
        (events, messages, partition) -> {
          List<Object[]> again = connectors.again(connection, stream, partition, messages);
          int known = events.layout().columns();
          Page wide = new Page(layout);
          for (int i = 0; i < events.size(); i++) {
            Object[] row = new Object[layout.columns()];
            for (int c = 0; c < row.length; c++) {
              row[c] =
                  c < known
                      ? BoxedRows.readColumn(events.layout(), events.bytes(), events.start(i), c)
                      : again.get(i) == null || stream.addedAt().containsKey(c)
                          ? null // it could not be read, or is not to be read of earlier events
                          : again.get(i)[c];
            }
            BoxedRows.write(wide.begin(), row);
            wide.commit(events.weight(i));
          }
          return wide;
        });
  }

  /** Goes on with what was not finished; before anything is read. */
  public void resume() {
    for (CatalogObject object : catalog.get().all()) {
      if (object instanceof CatalogObject.Stream stream) {
        try {
          widen(stream);
        } catch (EngineException e) {
          LOG.warn("{} has events without its new columns: {}", stream.name(), e.getMessage());
        }
      }
    }
  }
}
