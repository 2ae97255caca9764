package dripledger.engine.sql;

import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.source.Proposal;

/** A proposal and the statement that would keep it. */
public record ProposedDefinition(Proposal proposal, String sql) {
  /**
   * What a stream or table of such a source would be created as.
   *
   * @param table whether it would be a table
   */
  public static ProposedDefinition of(
      String name, Proposal proposal, SourceSpec source, boolean table) {
    return new ProposedDefinition(
        proposal,
        table
            ? DefinitionText.table(name, proposal, source)
            : DefinitionText.stream(
                name, proposal, source, DefinitionText.PROPOSED_LATENESS_SECONDS));
  }
}
