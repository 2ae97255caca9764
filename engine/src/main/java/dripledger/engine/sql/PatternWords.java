package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlMatchRecognize;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.SqlNumericLiteral;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.SqlSpecialOperator;
import org.apache.calcite.sql.parser.SqlParserPos;
import org.apache.calcite.sql.util.SqlBasicVisitor;
import org.apache.calcite.sql.util.SqlShuttle;
import org.apache.calcite.sql.validate.SqlValidator;
import org.apache.calcite.sql.validate.SqlValidatorScope;

/**
 * Names of columns in the conditions of a pattern. PREV (w) and NEXT (w) are about the neighbour of
 * the row that is looked at; the library would take PREV (w) for the row before it in the match. So
 * the name of the variable is put in front.
 */
final class PatternWords {
  /** What is so many rows away, back if the number is below 0: in measures; not for users. */
  static final SqlOperator NEIGHBOUR =
      new SqlSpecialOperator("NEIGHBOUR", SqlKind.OTHER) {
        @Override
        public RelDataType deriveType(
            SqlValidator validator, SqlValidatorScope scope, SqlCall call) {
          validator.deriveType(scope, call.operand(1));
          RelDataType type = validator.deriveType(scope, call.operand(0));
          return validator.getTypeFactory().createTypeWithNullability(type, true);
        }
      };

  private PatternWords() {}

  /** Makes it what the library knows, and answers the names that stand for rows in it. */
  static List<String> prepare(SqlMatchRecognize match) {
    if (match.getAfter() == null) { // as the standard has it; the library would take the next row
      match.setOperand(
          SqlMatchRecognize.OPERAND_AFTER,
          SqlMatchRecognize.AfterOption.SKIP_PAST_LAST_ROW.symbol(match.getParserPosition()));
    }
    List<String> names = new ArrayList<>(List.of("", ""));
    match
        .getPattern()
        .accept(
            new SqlBasicVisitor<Void>() {
              @Override
              public Void visit(SqlIdentifier id) {
                names.add(id.getSimple());
                return null;
              }
            });
    List<String> subsets = new ArrayList<>();
    for (SqlNode each : match.getSubsetList() == null ? SqlNodeList.EMPTY : match.getSubsetList()) {
      SqlCall subset = (SqlCall) each;
      SqlNodeList of = subset.operand(1);
      of.forEach(name -> check((SqlIdentifier) name, names));
      subsets.add(((SqlIdentifier) subset.operand(0)).getSimple());
    }
    for (SqlNode definition : match.getPatternDefList()) {
      SqlCall as = (SqlCall) definition;
      SqlIdentifier name = as.operand(1);
      String variable = name.getSimple();
      check(name, names);
      as.setOperand(0, as.operand(0).accept(new Neighbours(variable)));
    }
    for (SqlNode measure : match.getMeasureList()) {
      SqlCall as = (SqlCall) measure;
      as.setOperand(0, as.operand(0).accept(new Measured()));
    }
    names.addAll(subsets);
    return names;
  }

  private static void check(SqlIdentifier name, List<String> variables) {
    if (!variables.contains(name.getSimple())) {
      throw SqlErrors.invalid(
          name,
          "no variable \"" + name.getSimple() + "\" in the pattern",
          "the variables are " + String.join(", ", variables.subList(2, variables.size())));
    }
  }

  /** Finds calls of PREV and NEXT. */
  private static final class Neighbours extends SqlShuttle {
    private final String variable;

    Neighbours(String variable) {
      this.variable = variable;
    }

    @Override
    public SqlNode visit(SqlCall call) {
      boolean near = call.getKind() == SqlKind.PREV || call.getKind() == SqlKind.NEXT;
      if (near) {
        call.setOperand(0, call.operand(0).accept(new Qualified(variable)));
        return call;
      }
      return super.visit(call);
    }
  }

  /** PREV and NEXT in measures, which the library knows in conditions only. */
  private static final class Measured extends SqlShuttle {
    @Override
    public SqlNode visit(SqlCall call) {
      boolean back = call.getKind() == SqlKind.PREV;
      if (!back && call.getKind() != SqlKind.NEXT) {
        return super.visit(call);
      }
      SqlNode rows = call.operandCount() > 1 ? call.operand(1) : null;
      String away = rows instanceof SqlNumericLiteral number ? number.toValue() : "1";
      SqlParserPos pos = call.getParserPosition();
      SqlNode literal = SqlLiteral.createExactNumeric((back ? "-" : "") + away, pos);
      return NEIGHBOUR.createCall(pos, call.operand(0).accept(this), literal);
    }
  }

  /** Puts a variable in front of columns that have none. */
  private static final class Qualified extends SqlShuttle {
    private final String variable;

    Qualified(String variable) {
      this.variable = variable;
    }

    @Override
    public SqlNode visit(SqlIdentifier id) {
      return id.isSimple()
          ? new SqlIdentifier(List.of(variable, id.getSimple()), id.getParserPosition())
          : id;
    }

    @Override
    public SqlNode visit(SqlCall call) {
      boolean own = call.getKind() == SqlKind.FIRST || call.getKind() == SqlKind.LAST;
      return own ? call : super.visit(call);
    }
  }
}
