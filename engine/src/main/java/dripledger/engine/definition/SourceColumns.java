package dripledger.engine.definition;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Proposal;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.DefinitionText;
import java.util.function.Supplier;

/** The columns of streams and tables that are read off their sources. Safe from any thread. */
final class SourceColumns {
  private final Connectors connectors;
  private final Supplier<Catalog> catalog;

  SourceColumns(Connectors connectors, Supplier<Catalog> catalog) {
    this.connectors = connectors;
    this.catalog = catalog;
  }

  /** The statement with the columns written out that its source proposes, if it has none. */
  String completed(String sql, Command command) {
    if (command instanceof Command.CreateStream c && c.schema() == null) {
      return DefinitionText.stream(
          c.name(),
          propose(c.source(), false),
          c.source(),
          DefinitionText.PROPOSED_LATENESS_SECONDS);
    }
    if (command instanceof Command.CreateTable c && c.schema() == null) {
      Proposal proposal = propose(c.source(), true);
      if (proposal.key().isEmpty()) {
        throw new EngineException(
            Code.INVALID,
            "nothing in the source of \"" + c.name() + "\" looks like a key",
            "declare the columns with PRIMARY KEY, or CREATE STREAM if rows never change");
      }
      return DefinitionText.table(c.name(), proposal, c.source());
    }
    return sql;
  }

  /** What the source of a definition proposes as its columns. */
  Proposal propose(SourceSpec source, boolean keyed) {
    Proposal proposal =
        connectors.propose(
            (CatalogObject.Connection) catalog.get().find(source.connectionId()), source, keyed);
    if (proposal.columns().isEmpty()) {
      throw new EngineException(
          Code.INVALID,
          "columns cannot be read off the source: "
              + (proposal.sampled() == 0
                  ? "it is empty"
                  : "no message of the sample could be read"),
          "declare the columns: (name TYPE, …) after the name");
    }
    return proposal;
  }
}
