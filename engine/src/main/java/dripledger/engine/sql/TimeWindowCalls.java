package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlIntervalLiteral;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.SqlWindowTableFunction;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.type.SqlOperandMetadata;

/**
 * TUMBLE, HOP, GROW and SESSION as they are written: their form, and what is wrong with it.
 * Stateless.
 */
final class TimeWindowCalls {
  private static final List<String> NAMES = List.of("TUMBLE", "HOP", "GROW", "SESSION");

  /** Windows that begin together, each longer than the one before by a step, up to a full size. */
  static final SqlOperator GROW =
      new SqlWindowTableFunction(
          "GROW", (SqlOperandMetadata) SqlStdOperatorTable.HOP.getOperandTypeChecker());

  private TimeWindowCalls() {}

  static boolean isName(String name) {
    return NAMES.stream().anyMatch(name::equalsIgnoreCase);
  }

  static boolean isOne(SqlNode node) {
    return node instanceof SqlCall call && isName(call.getOperator().getName());
  }

  /**
   * The form that the library knows: there, what the rows of a SESSION are parted by is an operand
   * of its own.
   */
  static SqlCall known(SqlCall call) {
    check(call);
    if (!(call.getOperandList().get(0) instanceof SqlCall parted)
        || parted.getKind() != SqlKind.SET_SEMANTICS_TABLE) {
      return call;
    }
    SqlNodeList by = (SqlNodeList) parted.getOperandList().get(1);
    List<SqlNode> operands = new ArrayList<>(call.getOperandList());
    operands.set(0, parted.getOperandList().get(0));
    if (!by.isEmpty()) {
      operands.add(
          2, SqlStdOperatorTable.DESCRIPTOR.createCall(by.getParserPosition(), by.getList()));
    }
    return call.getOperator().createCall(call.getParserPosition(), operands);
  }

  /** Refuses a form that the library would complain of in words of its own. */
  private static void check(SqlCall call) {
    String name = call.getOperator().getName().toUpperCase(java.util.Locale.ROOT);
    List<SqlNode> operands = call.getOperandList();
    if (operands.stream().anyMatch(o -> o.getKind() == SqlKind.ARGUMENT_ASSIGNMENT)) {
      return; // by name: in any order
    }
    if (name.equals("SESSION")) {
      checkSession(call, operands);
      return;
    }
    boolean hops = !name.equals("TUMBLE");
    int fewest = hops ? 4 : 3;
    String form =
        hops
            ? name + " (TABLE scan, DESCRIPTOR (at), INTERVAL '1' MINUTE, INTERVAL '5' MINUTE)"
            : "TUMBLE (TABLE scan, DESCRIPTOR (at), INTERVAL '5' MINUTE)";
    boolean fits =
        operands.size() >= fewest
            && operands.size() <= fewest + 1
            && operands.get(1) instanceof SqlCall time
            && time.getOperator().getName().equalsIgnoreCase("DESCRIPTOR")
            && time.operandCount() == 1;
    for (int i = 2; fits && i < operands.size(); i++) {
      fits =
          !(operands.get(i) instanceof SqlLiteral) || operands.get(i) instanceof SqlIntervalLiteral;
    }
    if (!fits) {
      throw SqlErrors.invalid(
          call,
          name
              + " takes a relation, its time, "
              + (name.equals("GROW")
                  ? "the step and the full size of windows"
                  : hops ? "the slide and the size of windows" : "the size of windows")
              + ", and perhaps where they begin",
          form);
    }
  }

  private static void checkSession(SqlCall call, List<SqlNode> operands) {
    boolean fits =
        operands.size() >= 3
            && operands.size() <= 4
            && operands.subList(1, operands.size() - 1).stream()
                .allMatch(TimeWindowCalls::isDescriptor)
            && ((SqlCall) operands.get(1)).operandCount() == 1
            && (!(operands.get(operands.size() - 1) instanceof SqlLiteral)
                || operands.get(operands.size() - 1) instanceof SqlIntervalLiteral);
    if (!fits) {
      throw SqlErrors.invalid(
          call,
          "SESSION takes a relation, by what its rows are parted, their time and the gap that ends"
              + " a session",
          "SESSION (TABLE handoff PARTITION BY van, DESCRIPTOR (at), INTERVAL '10' MINUTE)");
    }
  }

  private static boolean isDescriptor(SqlNode node) {
    return node instanceof SqlCall call
        && call.getOperator().getName().equalsIgnoreCase("DESCRIPTOR");
  }

  /** Whether the library complains of the time that such a call names. */
  static boolean isOfTime(Throwable complaint) {
    return Arrays.stream(complaint.getStackTrace())
        .anyMatch(e -> e.getClassName().startsWith(SqlWindowTableFunction.class.getName()));
  }
}
