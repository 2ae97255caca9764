package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.expr.Program;
import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Optional;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexUtil;

/**
 * The rows of VALUES, boxed. A literal of the kind of its column is taken as it is; of another it
 * is computed like every other expression, which compiles code: too much for each of many rows.
 * Single use.
 */
final class ConstantRows {
  private final Schema output;
  private final Expressions expressions;
  private final Map<List<Object>, Optional<Object>> seen = new HashMap<>();

  ConstantRows(Schema output, Expressions expressions) {
    this.output = output;
    this.expressions = expressions;
  }

  /** Whether a row can be made of expressions: none of them is about anything. */
  static boolean areConstant(List<? extends RexNode> row) {
    return row.stream().allMatch(RexUtil::isConstant);
  }

  List<Object> of(List<? extends RexNode> tuple) {
    List<Object> row = new ArrayList<>();
    for (int i = 0; i < tuple.size(); i++) {
      Expr expr = folded(expressions.translate(tuple.get(i)));
      Column column = output.column(i);
      row.add(
          expr instanceof Expr.Constant constant && isPlain(constant, column.type())
              ? plain(constant, column.type())
              : seen.computeIfAbsent(List.of(expr, column), e -> box(expr, column)).orElse(null));
    }
    return row;
  }

  /** A literal that is cast to what it can be as it is. */
  private static Expr folded(Expr expr) {
    if (!(expr instanceof Expr.Call call)
        || call.operation() != Operation.CAST
        || !(folded(call.operands().get(0)) instanceof Expr.Constant inner)) {
      return expr;
    }
    if (inner.value() == null) {
      return new Expr.Constant(null, call.type());
    }
    boolean number = inner.value() instanceof BigDecimal || inner.value() instanceof Long;
    return number && call.type().kind() == ColumnType.Kind.DOUBLE
        ? new Expr.Constant(((Number) inner.value()).doubleValue(), call.type())
        : expr;
  }

  private static boolean isPlain(Expr.Constant constant, ColumnType type) {
    ColumnType.Kind kind = constant.type().kind();
    if (constant.value() == null) {
      return type.nullable();
    }
    return switch (type.kind()) {
      case BIGINT -> kind.isInteger();
      case SMALLINT, INTEGER, BOOLEAN, DOUBLE, DATE, TIMESTAMP -> kind == type.kind();
      case DECIMAL -> kind == ColumnType.Kind.DECIMAL && constant.type().scale() <= type.scale();
      case VARCHAR -> kind == ColumnType.Kind.VARCHAR && type.precision() < 0;
      default -> false;
    };
  }

  private static Object plain(Expr.Constant constant, ColumnType type) {
    if (constant.value() == null) {
      return null;
    }
    return switch (type.kind()) {
      case DATE -> java.time.LocalDate.ofEpochDay((Long) constant.value());
      case TIMESTAMP -> BoxedRows.timestamp((Long) constant.value());
      case DECIMAL -> ((BigDecimal) constant.value()).setScale(type.scale());
      default -> constant.value();
    };
  }

  private static Optional<Object> box(Expr constant, Column column) {
    Schema one = new Schema(List.of(column));
    ProgramCompiler.CompiledProgram program =
        ProgramCompiler.compile(new Program(new Schema(List.of()), null, List.of(constant), one));
    Page page = new Page(new RowLayout(one));
    try {
      program.program().run(new byte[0], 0, page.begin());
      page.commit(1);
    } catch (RuntimeException e) {
      throw new EngineException(EngineException.Code.INVALID, e.getMessage());
    }
    return Optional.ofNullable(BoxedRows.readColumn(page.layout(), page.bytes(), page.start(0), 0));
  }
}
