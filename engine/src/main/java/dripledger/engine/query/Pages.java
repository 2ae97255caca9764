package dripledger.engine.query;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.Casts;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.expr.Program;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.SortKey;
import dripledger.engine.sql.Command;
import dripledger.engine.view.Snapshot;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Base64;
import java.util.List;
import java.util.stream.IntStream;

/**
 * Answers of a query page by page. A page goes on behind the last row of the one before, found by
 * the values it is ordered by and not by how many rows there were: rows that come and go meanwhile
 * neither move others onto two pages nor off all of them. Stateless.
 */
public final class Pages {
  private static final ColumnType TRUTH = ColumnType.of(Kind.BOOLEAN);
  private static final int MOST_CHARS = 20_000; // of a mark
  private static final int MOST_ALIKE = 1_000_000; // rows that nothing tells apart

  /**
   * A page.
   *
   * @param next where the next one begins, as text that means nothing to others; null if there is
   *     none
   */
  public record Page(Result.Rows rows, String next) {}

  /**
   * Where a page ends.
   *
   * @param values of the columns it is ordered by
   * @param given how many rows with just these values there were already; 0 for all of them
   */
  private record Mark(List<Object> values, int given) {}

  private Pages() {}

  /**
   * One page of a query.
   *
   * @param most rows of a page
   * @param after what the page before said is next; null for the first page
   * @throws EngineException (INVALID) if it is something else
   */
  public static Page page(
      QueryRunner runner, Command.QueryPlan query, int most, String after, Snapshot snapshot) {
    List<SortKey> order = order(query);
    Mark mark = after == null ? null : read(after, order, query.plan());
    PlanNode plan = mark == null ? query.plan() : behind(query.plan(), order, mark);
    int[] outputs = Arrays.copyOf(query.outputs(), query.outputs().length + order.size());
    List<Column> columns = new ArrayList<>(query.columns());
    for (int i = 0; i < order.size(); i++) {
      outputs[query.outputs().length + i] = order.get(i).column();
      columns.add(plan.schema().column(order.get(i).column()));
    }
    long passed = mark == null ? 0 : mark.given();
    Result.Rows found =
        runner.answer(
            new Command.QueryPlan(plan, outputs, columns, order, passed, most + 1L),
            snapshot,
            (int) (most + 1 + passed));
    int width = query.outputs().length;
    List<Object[]> rows =
        found.rows().stream().limit(most).map(row -> Arrays.copyOf(row, width)).toList();
    String next = found.rows().size() > most ? next(found.rows(), most, width, mark) : null;
    return new Page(new Result.Rows(query.columns(), rows, found.epoch()), next);
  }

  /** The order of a query, and what decides between rows that are equal in it. */
  private static List<SortKey> order(Command.QueryPlan query) {
    List<SortKey> order = new ArrayList<>(query.order());
    boolean down = !order.isEmpty() && order.get(order.size() - 1).descending();
    List<Integer> key = query.plan().key();
    List<Integer> deciding = key != null ? key : IntStream.of(query.outputs()).boxed().toList();
    for (int column : deciding) {
      boolean there = order.stream().anyMatch(k -> k.column() == column);
      if (!there && isOrdered(query.plan().schema().type(column))) {
        order.add(new SortKey(column, down, down));
      }
    }
    return order;
  }

  private static boolean isOrdered(ColumnType type) {
    return switch (type.kind()) {
      case ROW, ARRAY, VARBINARY, INTERVAL_DAY_TIME, INTERVAL_YEAR_MONTH -> false;
      default -> true;
    };
  }

  private static String next(List<Object[]> rows, int most, int width, Mark before) {
    List<Object> last = values(rows.get(most - 1), width);
    if (!values(rows.get(most), width).equals(last)) {
      return text(new Mark(last, 0));
    }
    int equal = 0;
    while (equal < most && values(rows.get(most - 1 - equal), width).equals(last)) {
      equal++;
    }
    boolean goesOn = equal == most && before != null && before.values().equals(last);
    return text(new Mark(last, goesOn ? equal + before.given() : equal));
  }

  private static List<Object> values(Object[] row, int width) {
    return Arrays.asList(row).subList(width, row.length);
  }

  // ---- the rows behind a mark

  /** A plan with the rows behind a mark only, or from it on if some of its like are to come. */
  private static PlanNode behind(PlanNode plan, List<SortKey> order, Mark mark) {
    Expr condition = mark.given() > 0 ? constant(true) : constant(false);
    for (int i = order.size() - 1; i >= 0; i--) {
      SortKey key = order.get(i);
      Expr column = new Expr.Column(key.column(), plan.schema().type(key.column()));
      Expr value = Expr.Constant.of(mark.values().get(i), column.type());
      boolean missing = mark.values().get(i) == null;
      Expr equal = missing ? call(Operation.IS_NULL, column) : call(Operation.EQUAL, column, value);
      Expr same = call(Operation.AND, equal, condition);
      Expr beyond = beyond(key, column, value, missing);
      condition = beyond == null ? same : call(Operation.OR, beyond, same);
      if (i == 0 && !missing && !column.type().nullable()) { // by which a range can be read
        Operation atLeast = key.descending() ? Operation.LESS_OR_EQUAL : Operation.GREATER_OR_EQUAL;
        condition = call(Operation.AND, call(atLeast, column, value), condition);
      }
    }
    return filtered(plan, condition);
  }

  /** That a column's value comes later in the order; null if none does. */
  private static Expr beyond(SortKey key, Expr column, Expr value, boolean missing) {
    if (missing) {
      return key.nullsFirst() ? call(Operation.IS_NOT_NULL, column) : null;
    }
    Expr later = call(key.descending() ? Operation.LESS : Operation.GREATER, column, value);
    return key.nullsFirst() || !column.type().nullable()
        ? later
        : call(Operation.OR, later, call(Operation.IS_NULL, column));
  }

  private static Expr call(Operation operation, Expr... operands) {
    return new Expr.Call(operation, List.of(operands), List.of(), TRUTH);
  }

  private static Expr constant(boolean truth) {
    return new Expr.Constant(truth, TRUTH);
  }

  /** A plan whose rows fulfil a condition, which is asked as near to the relation as it can be. */
  private static PlanNode filtered(PlanNode plan, Expr condition) {
    if (!(plan instanceof PlanNode.Transform t)) {
      List<Expr> all = Expr.columns(plan.schema());
      return new PlanNode.Transform(
          plan, new Program(plan.schema(), condition, all, plan.schema()));
    }
    Program p = t.program();
    Expr below = Expr.over(condition, p.outputs());
    if (t.input() instanceof PlanNode.Transform && p.filter() == null && p.onlyPicks()) {
      return new PlanNode.Transform(filtered(t.input(), below), p);
    }
    Expr both = p.filter() == null ? below : call(Operation.AND, p.filter(), below);
    return new PlanNode.Transform(t.input(), new Program(p.input(), both, p.outputs(), p.output()));
  }

  // ---- marks as text

  private static String text(Mark mark) {
    StringBuilder text = new StringBuilder().append(mark.given());
    for (Object value : mark.values()) {
      String shown = value instanceof Float f ? "" + f.doubleValue() : String.valueOf(value);
      text.append(value == null ? " -" : " " + shown.length() + ":" + shown);
    }
    return Base64.getUrlEncoder()
        .withoutPadding()
        .encodeToString(text.toString().getBytes(StandardCharsets.UTF_8));
  }

  private static Mark read(String after, List<SortKey> order, PlanNode plan) {
    try {
      if (after.length() > MOST_CHARS) {
        throw new IllegalArgumentException("too long");
      }
      String text = new String(Base64.getUrlDecoder().decode(after), StandardCharsets.UTF_8);
      int at = text.indexOf(' ') < 0 ? text.length() : text.indexOf(' ');
      int given = Integer.parseInt(text.substring(0, at));
      List<Object> values = new ArrayList<>();
      for (SortKey key : order) {
        if (text.startsWith(" -", at)) {
          values.add(null);
          at += 2;
          continue;
        }
        int colon = text.indexOf(':', at);
        int end = colon + 1 + Integer.parseInt(text.substring(at + 1, colon));
        ColumnType type = plan.schema().type(key.column());
        values.add(Casts.parse(text.substring(colon + 1, end), type));
        at = end;
      }
      if (at != text.length() || given < 0 || given > MOST_ALIKE) {
        throw new IllegalArgumentException("of something else");
      }
      return new Mark(values, given);
    } catch (RuntimeException e) {
      throw new EngineException(
          Code.INVALID,
          "parameter \"after\" is not what an answer of this endpoint gave as next",
          "leave it out to begin with the first page");
    }
  }
}
