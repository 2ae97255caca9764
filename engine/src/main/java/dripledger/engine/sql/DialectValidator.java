package dripledger.engine.sql;

import java.util.List;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlMatchRecognize;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.validate.MatchRecognizeScope;
import org.apache.calcite.sql.validate.SqlValidatorCatalogReader;
import org.apache.calcite.sql.validate.SqlValidatorImpl;

/**
 * The SQL library's validator, but for patterns: there a measure of a variable that no row is of is
 * NULL, and conditions may name a SUBSET too.
 */
final class DialectValidator extends SqlValidatorImpl {
  DialectValidator(SqlValidatorCatalogReader reader, RelDataTypeFactory types) {
    super(Dialect.operators(), reader, types, Dialect.VALIDATOR);
  }

  @Override
  public void validateMatchRecognize(SqlCall call) {
    SqlMatchRecognize match = (SqlMatchRecognize) call;
    SqlNodeList subsets = match.getSubsetList();
    MatchRecognizeScope scope = (MatchRecognizeScope) getMatchRecognizeScope(match);
    for (SqlNode subset : subsets == null ? List.<SqlNode>of() : subsets) {
      SqlIdentifier name = ((SqlCall) subset).operand(0);
      scope.addPatternVar(name.getSimple());
    }
    match.setOperand(SqlMatchRecognize.OPERAND_SUBSET, SqlNodeList.EMPTY);
    super.validateMatchRecognize(match);
    match.setOperand(SqlMatchRecognize.OPERAND_SUBSET, subsets);
    RelDataType type = getNamespace(match).getRowType();
    int measures = match.getMeasureList().size();
    RelDataTypeFactory.Builder builder = typeFactory.builder();
    for (RelDataTypeField field : type.getFieldList()) {
      int measure = field.getIndex() - (type.getFieldCount() - measures);
      boolean sure = measure < 0 || isSure(match.getMeasureList().get(measure));
      builder.add(
          field.getName(),
          sure ? field.getType() : typeFactory.createTypeWithNullability(field.getType(), true));
    }
    setNamespaceType(match, builder.build());
  }

  private void setNamespaceType(SqlMatchRecognize match, RelDataType type) {
    getNamespace(match).setType(type);
    setValidatedNodeType(match, type);
  }

  /** Whether a measure has a value for every match. */
  private static boolean isSure(SqlNode measure) {
    SqlNode of = measure.getKind() == SqlKind.AS ? ((SqlCall) measure).operand(0) : measure;
    if (of instanceof SqlCall call
        && (call.getKind() == SqlKind.FINAL || call.getKind() == SqlKind.RUNNING)) {
      of = call.operand(0);
    }
    return of.getKind() == SqlKind.COUNT
        || of instanceof SqlCall call && call.getOperator().getName().equals("MATCH_NUMBER");
  }
}
