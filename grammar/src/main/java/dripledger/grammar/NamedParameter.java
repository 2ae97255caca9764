package dripledger.grammar;

import org.apache.calcite.sql.SqlDynamicParam;
import org.apache.calcite.sql.parser.SqlParserPos;

/**
 * A parameter written {@code :name}, or {@code $1} where a client numbers them; replaced by a
 * literal before validation.
 */
public final class NamedParameter extends SqlDynamicParam {
  private final String name;

  public NamedParameter(int index, String name, SqlParserPos pos) {
    super(index, pos);
    this.name = name;
  }

  /** The name, or the number with its {@code $}. */
  public String name() {
    return name;
  }
}
