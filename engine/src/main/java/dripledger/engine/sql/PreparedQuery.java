package dripledger.engine.sql;

import java.util.List;

/**
 * A query that is planned once for all values of its parameters. They are compared for equality
 * with columns of the one relation it reads, and nothing else; the plan is without these
 * conditions, so it must be fed only rows that fulfil them. Immutable.
 *
 * @param relationId what it reads
 * @param bindings which column is compared with which parameter; empty if there are none
 */
public record PreparedQuery(Command.QueryPlan plan, long relationId, List<Binding> bindings) {
  /**
   * A column and the parameter it is to be equal to.
   *
   * @param text whether the column is text, and not an integer
   */
  public record Binding(int column, String parameter, boolean text) {}
}
