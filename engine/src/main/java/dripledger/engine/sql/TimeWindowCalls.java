package dripledger.engine.sql;

import java.util.Arrays;
import java.util.List;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlIntervalLiteral;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlWindowTableFunction;

/** TUMBLE and HOP as they are written: their form, and what is wrong with it. Stateless. */
final class TimeWindowCalls {
  private static final List<String> NAMES = List.of("TUMBLE", "HOP");

  private TimeWindowCalls() {}

  static boolean isName(String name) {
    return NAMES.stream().anyMatch(name::equalsIgnoreCase);
  }

  static boolean isOne(SqlNode node) {
    return node instanceof SqlCall call && isName(call.getOperator().getName());
  }

  /** Refuses a form that the library would complain of in words of its own. */
  static void check(SqlCall call) {
    String name = call.getOperator().getName().toUpperCase(java.util.Locale.ROOT);
    List<SqlNode> operands = call.getOperandList();
    if (operands.stream().anyMatch(o -> o.getKind() == SqlKind.ARGUMENT_ASSIGNMENT)) {
      return; // by name: in any order
    }
    boolean hops = name.equals("HOP");
    int fewest = hops ? 4 : 3;
    String form =
        hops
            ? "HOP (TABLE scan, DESCRIPTOR (at), INTERVAL '1' MINUTE, INTERVAL '5' MINUTE)"
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
              + (hops ? "the slide and the size of windows" : "the size of windows")
              + ", and perhaps where they begin",
          form);
    }
  }

  /** Whether the library complains of the time that such a call names. */
  static boolean isOfTime(Throwable complaint) {
    return Arrays.stream(complaint.getStackTrace())
        .anyMatch(e -> e.getClassName().startsWith(SqlWindowTableFunction.class.getName()));
  }
}
