package dripledger.grammar;

import java.util.List;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.SqlSpecialOperator;
import org.apache.calcite.sql.parser.SqlParserPos;

/** Carries a {@link Statement} through the SQL library's tree; it is never validated as a query. */
public final class StatementNode extends SqlCall {
  private static final SqlOperator OPERATOR =
      new SqlSpecialOperator("DRIP STATEMENT", SqlKind.OTHER_DDL);

  private final Statement statement;

  public StatementNode(SqlParserPos pos, Statement statement) {
    super(pos);
    this.statement = statement;
  }

  public Statement statement() {
    return statement;
  }

  @Override
  public SqlOperator getOperator() {
    return OPERATOR;
  }

  @Override
  public List<SqlNode> getOperandList() {
    return List.of();
  }
}
