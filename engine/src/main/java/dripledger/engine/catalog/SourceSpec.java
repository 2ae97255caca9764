package dripledger.engine.catalog;

import java.util.Map;

/**
 * Where a stream's or table's rows come from: the FROM clause; or where a delivery goes, its TO.
 * Immutable.
 *
 * @param connection the connection's name
 * @param connectionId the connection's number
 * @param options by lower-case name, with those of FORMAT
 * @param format the message format, or null if the connection's type has only one
 */
public record SourceSpec(
    String connection, long connectionId, Map<String, String> options, String format) {
  public SourceSpec {
    options = Map.copyOf(options);
  }

  /** An option's value, or null. */
  public String option(String name) {
    return options.get(name);
  }

  public String option(String name, String otherwise) {
    return options.getOrDefault(name, otherwise);
  }
}
