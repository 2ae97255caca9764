package dripledger.grammar;

import org.apache.calcite.sql.SqlDynamicParam;
import org.apache.calcite.sql.parser.SqlParserPos;

/** A parameter written {@code :name}; replaced by a literal before validation. */
public final class NamedParameter extends SqlDynamicParam {
  private final String name;

  public NamedParameter(int index, String name, SqlParserPos pos) {
    super(index, pos);
    this.name = name;
  }

  public String name() {
    return name;
  }
}
