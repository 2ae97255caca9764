package dripledger.engine.sql;

import java.util.Locale;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.parser.SqlParserPos;

/** Finds the call or name an error message speaks of. */
final class WordFinder extends org.apache.calcite.sql.util.SqlBasicVisitor<Void> {
  private final String message;
  private SqlParserPos found;

  private WordFinder(String message) {
    this.message = message.toLowerCase(Locale.ROOT);
  }

  static SqlParserPos find(SqlNode node, String message) {
    WordFinder finder = new WordFinder(message);
    node.accept(finder);
    return finder.found == null ? node.getParserPosition() : finder.found;
  }

  @Override
  public Void visit(SqlCall call) {
    String name = call.getOperator().getName().toLowerCase(Locale.ROOT);
    if (found == null && name.length() > 1 && message.contains(": " + name)
        || found == null && name.length() > 1 && message.contains("function " + name)) {
      found = call.getParserPosition();
    }
    return super.visit(call);
  }

  @Override
  public Void visit(SqlLiteral literal) {
    return null;
  }
}
