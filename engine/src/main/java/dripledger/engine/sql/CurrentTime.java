package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.Join;
import org.apache.calcite.rel.core.JoinRelType;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.logical.LogicalFilter;
import org.apache.calcite.rel.logical.LogicalProject;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexShuttle;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.rex.RexVisitorImpl;
import org.apache.calcite.sql.SqlIntervalQualifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.parser.SqlParserPos;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.util.TimestampString;

/**
 * Comparisons with the current time in a query that is kept up to date. Each becomes a question
 * that a row is asked: whether the current time has reached a time of it, which it does at one
 * moment and then for ever ({@link TimeReached}). Single thread; one for each query.
 */
final class CurrentTime extends RelHomogeneousShuttle {
  private static final long DAY = 86_400_000_000L;

  private CurrentTime() {}

  /** A query that asks nothing of the clock any more. */
  static RelNode in(RelNode rel) {
    return rel.accept(new CurrentTime());
  }

  @Override
  public RelNode visit(RelNode other) {
    RelNode rel = super.visit(other);
    if (rel instanceof Join join && asks(join.getCondition())) {
      return aboveJoin(join);
    }
    if (rel instanceof Filter filter && asks(filter.getCondition())) {
      Reading reading = new Reading(filter.getInput());
      RexNode condition = reading.of(filter.getCondition());
      RelNode kept = LogicalFilter.create(reading.rel(), condition);
      return LogicalProject.create(
          kept, List.of(), reading.columns(), filter.getRowType().getFieldNames(), Set.of());
    }
    if (rel instanceof Project project && project.getProjects().stream().anyMatch(this::asks)) {
      Reading reading = new Reading(project.getInput());
      List<RexNode> outputs = project.getProjects().stream().map(reading::of).toList();
      return LogicalProject.create(
          reading.rel(), List.of(), outputs, project.getRowType().getFieldNames(), Set.of());
    }
    return rel;
  }

  private RelNode aboveJoin(Join join) {
    if (join.getJoinType() != JoinRelType.INNER) {
      throw refusal("a comparison of it with both sides of such a join");
    }
    List<RexNode> own = new ArrayList<>();
    List<RexNode> above = new ArrayList<>();
    for (RexNode part : RelOptUtil.conjunctions(join.getCondition())) {
      (asks(part) ? above : own).add(part);
    }
    RexBuilder rex = join.getCluster().getRexBuilder();
    RelNode below =
        join.copy(
            join.getTraitSet(),
            RexUtil.composeConjunction(rex, own),
            join.getLeft(),
            join.getRight(),
            join.getJoinType(),
            join.isSemiJoinDone());
    return visit(LogicalFilter.create(below, RexUtil.composeConjunction(rex, above)));
  }

  private static EngineException refusal(String what) {
    return new EngineException(
        Code.NOT_SUPPORTED,
        "not supported yet in a view: now, the current time, in " + what,
        "compare a time of the row with it, as in at > CURRENT_TIMESTAMP - INTERVAL '5' MINUTE");
  }

  private boolean asks(RexNode node) {
    boolean[] found = new boolean[1];
    node.accept(
        new RexVisitorImpl<Void>(true) {
          @Override
          public Void visitCall(RexCall call) {
            found[0] |= isClock(call);
            return super.visitCall(call);
          }
        });
    return found[0];
  }

  private static boolean isClock(RexNode node) {
    return node instanceof RexCall call
        && (call.getOperator() == Dialect.NOW
            || call.getOperator() == SqlStdOperatorTable.CURRENT_TIMESTAMP
            || call.getOperator() == SqlStdOperatorTable.LOCALTIMESTAMP
            || isToday(call));
  }

  private static boolean isToday(RexNode node) {
    return node instanceof RexCall call && call.getOperator() == SqlStdOperatorTable.CURRENT_DATE;
  }

  /** The rows of a relation, with what is asked of them. */
  private final class Reading {
    private final RelNode input;
    private final RexBuilder rex;
    private final int width;
    private final List<RexNode> times = new ArrayList<>();

    Reading(RelNode input) {
      this.input = input;
      rex = input.getCluster().getRexBuilder();
      width = input.getRowType().getFieldCount();
    }

    /** An expression over {@link #rel}. */
    RexNode of(RexNode node) {
      return RexUtil.expandSearch(rex, null, node)
          .accept(
              new RexShuttle() {
                @Override
                public RexNode visitCall(RexCall call) {
                  if (isClock(call)) {
                    throw refusal("what is computed");
                  }
                  if (call.getOperands().size() == 2 && asks(call)) {
                    RexNode flag = comparison(call);
                    if (flag != null) {
                      return flag;
                    }
                  }
                  return super.visitCall(call);
                }
              });
    }

    /** The relation, which has a column more for each question. */
    RelNode rel() {
      List<RexNode> outputs = new ArrayList<>(columns());
      outputs.addAll(times);
      List<String> names = new ArrayList<>(input.getRowType().getFieldNames());
      for (int i = 0; i < times.size(); i++) {
        names.add("past_" + (i + 1));
      }
      RelNode timed = LogicalProject.create(input, List.of(), outputs, names, Set.of());
      return new TimeReached(timed, times.size());
    }

    List<RexNode> columns() {
      List<RexNode> columns = new ArrayList<>();
      for (int i = 0; i < width; i++) {
        columns.add(rex.makeInputRef(input, i));
      }
      return columns;
    }

    /** A comparison with the current time, or null if it is none. */
    private RexNode comparison(RexCall call) {
      SqlKind kind = call.getKind();
      if (!SqlKind.COMPARISON.contains(kind)) {
        return null;
      }
      RexNode a = call.getOperands().get(0);
      RexNode b = call.getOperands().get(1);
      if (asks(a) && asks(b)) {
        throw refusal("both sides of a comparison");
      }
      return asks(a) ? isolate(kind, a, b) : isolate(kind.reverse(), b, a);
    }

    /** That an expression with the current time compares so with one without. */
    private RexNode isolate(SqlKind kind, RexNode clock, RexNode other) {
      if (isToday(clock)) {
        return ofDay(kind, other);
      }
      if (isClock(clock)) {
        return compared(kind, moment(other));
      }
      RexCall call = (RexCall) clock;
      List<RexNode> operands = call.getOperands();
      switch (clock.getKind()) {
        case CAST -> {
          boolean same = clock.getType().getSqlTypeName() == SqlTypeName.TIMESTAMP;
          if (same) {
            return isolate(kind, operands.get(0), other);
          }
          if (clock.getType().getSqlTypeName() == SqlTypeName.DATE) {
            return ofDay(kind, other);
          }
          throw refusal("a cast");
        }
        case PLUS, MINUS -> {
          boolean plus = clock.getKind() == SqlKind.PLUS;
          if (!asks(operands.get(0))) {
            if (plus || !isSpan(clock.getType())) {
              throw refusal("an interval");
            }
            // other time − now, compared with a span
            return isolate(kind.reverse(), operands.get(1), shift(operands.get(0), other, false));
          }
          RexNode span = operands.get(1);
          if (isSpan(clock.getType())) { // now − other time, compared with a span
            return isolate(kind, operands.get(0), shift(span, other, true));
          }
          return isolate(kind, operands.get(0), shift(other, span, !plus));
        }
        default -> throw refusal(call.getOperator().getName());
      }
    }

    private boolean isSpan(RelDataType type) {
      return SqlTypeName.DAY_INTERVAL_TYPES.contains(type.getSqlTypeName());
    }

    private RexNode moment(RexNode node) {
      RelDataType type = timestamp(node.getType().isNullable());
      return node.getType().equals(type) ? node : rex.makeCast(type, node);
    }

    private RelDataType timestamp(boolean nullable) {
      RelDataTypeFactory factory = rex.getTypeFactory();
      return factory.createTypeWithNullability(
          factory.createSqlType(SqlTypeName.TIMESTAMP, 6), nullable);
    }

    /** A time and a span more or less. */
    private RexNode shift(RexNode time, RexNode span, boolean later) {
      if (!isSpan(span.getType())) {
        throw refusal("an interval of months"); // such a span is not as long every time
      }
      boolean nullable = time.getType().isNullable() || span.getType().isNullable();
      SqlOperator operator =
          later ? SqlStdOperatorTable.DATETIME_PLUS : SqlStdOperatorTable.MINUS_DATE;
      return rex.makeCall(timestamp(nullable), operator, List.of(moment(time), span));
    }

    private RexNode compared(SqlKind kind, RexNode time) {
      return compared(kind, time, shift(time, span(1), true));
    }

    /** That the day of the current time compares so with a time. */
    private RexNode ofDay(SqlKind kind, RexNode other) {
      RexNode time = moment(other);
      RexNode day = span(DAY);
      RexNode from = shift(midnight(shift(time, span(1), false)), day, true);
      return compared(kind, from, shift(midnight(time), day, true));
    }

    private RexNode midnight(RexNode time) {
      RexNode origin = rex.makeTimestampLiteral(TimestampString.fromMillisSinceEpoch(0), 6);
      return rex.makeCall(
          timestamp(time.getType().isNullable()),
          OwnFunctions.DATE_BIN,
          List.of(span(DAY), time, origin));
    }

    /**
     * A comparison with the current time, or what it is rounded down to.
     *
     * @param from when that is no longer less than a time
     * @param past when it is more
     */
    private RexNode compared(SqlKind kind, RexNode from, RexNode past) {
      return switch (kind) {
        case GREATER_THAN_OR_EQUAL -> reached(from);
        case GREATER_THAN -> reached(past);
        case LESS_THAN -> not(reached(from));
        case LESS_THAN_OR_EQUAL -> not(reached(past));
        case EQUALS -> rex.makeCall(SqlStdOperatorTable.AND, reached(from), not(reached(past)));
        case NOT_EQUALS -> rex.makeCall(SqlStdOperatorTable.OR, not(reached(from)), reached(past));
        default -> throw refusal(kind.sql);
      };
    }

    private RexNode not(RexNode flag) {
      return rex.makeCall(SqlStdOperatorTable.NOT, flag);
    }

    private RexNode reached(RexNode time) {
      int at = times.indexOf(time);
      if (at < 0) {
        at = times.size();
        times.add(time);
      }
      RelDataTypeFactory factory = rex.getTypeFactory();
      RelDataType flag = factory.createSqlType(SqlTypeName.BOOLEAN);
      return new RexInputRef(
          width + at, factory.createTypeWithNullability(flag, time.getType().isNullable()));
    }

    private RexNode span(long micros) {
      return rex.makeIntervalLiteral(
          BigDecimal.valueOf(micros, 3),
          new SqlIntervalQualifier(
              org.apache.calcite.avatica.util.TimeUnit.SECOND, 10, null, 6, SqlParserPos.ZERO));
    }
  }
}
