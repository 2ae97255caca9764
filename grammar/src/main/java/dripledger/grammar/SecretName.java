package dripledger.grammar;

import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.parser.SqlParserPos;

/** {@code SECRET name} as the value of an option: the name of a secret, never the secret. */
public final class SecretName extends SqlIdentifier {
  public SecretName(String name, SqlParserPos pos) {
    super(name, pos);
  }
}
