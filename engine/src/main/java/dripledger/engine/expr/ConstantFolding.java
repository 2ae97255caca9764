package dripledger.engine.expr;

import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.util.List;

/**
 * Computes what an expression asks of constants only, so that {@code k = 500 + 10} is a look-up by
 * key. What would fail stays, and fails for the rows that it is asked for. Pure.
 */
public final class ConstantFolding {
  private ConstantFolding() {}

  public static Expr of(Expr expr) {
    if (!(expr instanceof Expr.Call call) || call.operands().isEmpty()) {
      return expr;
    }
    if (isConstant(call)) {
      Expr.Constant value =
          Expr.narrow(call) instanceof Expr.Constant integer
              ? new Expr.Constant(integer.value(), call.type())
              : value(call);
      return value == null ? call : value;
    }
    List<Expr> operands = call.operands().stream().map(ConstantFolding::of).toList();
    return operands.equals(call.operands())
        ? call
        : new Expr.Call(call.operation(), operands, call.options(), call.type());
  }

  private static boolean isConstant(Expr expr) {
    return expr instanceof Expr.Constant
        || expr instanceof Expr.Call call
            && call.operands().stream().allMatch(ConstantFolding::isConstant);
  }

  private static Expr.Constant value(Expr.Call call) {
    Schema one = new Schema(List.of(new Column("value", call.type().withNullable(true))));
    Page page = new Page(new RowLayout(one));
    try {
      ProgramCompiler.compile(new Program(new Schema(List.of()), null, List.of(call), one))
          .program()
          .run(new byte[0], 0, page.begin());
      page.commit(1);
    } catch (RuntimeException e) {
      return null;
    }
    RowLayout layout = page.layout();
    byte[] bytes = page.bytes();
    int row = page.start(0);
    if (layout.isNull(bytes, row, 0)) {
      return new Expr.Constant(null, call.type());
    }
    Object value =
        switch (call.type().kind()) {
          case BOOLEAN -> layout.slot(bytes, row, 0) != 0;
          case REAL, DOUBLE -> layout.doubleValue(bytes, row, 0);
          case DECIMAL -> layout.decimalValue(bytes, row, 0);
          case VARCHAR -> layout.stringValue(bytes, row, 0);
          case VARBINARY, ROW, ARRAY -> null;
          default -> layout.slot(bytes, row, 0);
        };
    return value == null ? null : new Expr.Constant(value, call.type());
  }
}
