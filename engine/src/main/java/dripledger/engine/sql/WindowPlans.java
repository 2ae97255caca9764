package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Frame;
import dripledger.engine.expr.WindowCall;
import dripledger.engine.plan.KeptPlaces;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.rel.RelFieldCollation.NullDirection;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexFieldCollation;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexOver;
import org.apache.calcite.rex.RexShuttle;
import org.apache.calcite.rex.RexVisitorImpl;
import org.apache.calcite.rex.RexWindow;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.util.ImmutableBitSet;

/**
 * Window functions of a SELECT as a plan: what they need is computed first, then one step for each
 * way of parting and ordering the rows adds the columns of its functions, then the rest of the
 * SELECT is computed of them. Aggregates over whole partitions are a grouping that the rows are
 * joined with: so they change no row while their answer stays. Single use.
 */
final class WindowPlans {
  private final RexBuilder rexBuilder;
  private final Expressions expressions;
  private final List<RexNode> extras = new ArrayList<>(); // computed before
  private int inputs; // columns of the input
  private PlanNode plan;
  private final Map<RexOver, Integer> columns = new LinkedHashMap<>(); // where each ended up

  /** Which rows a condition on a ranking keeps. */
  record Choice(RexOver ranking, long after, long to) {
    Choice and(Choice other) {
      return other == null
          ? this
          : new Choice(ranking, Math.max(after, other.after), Math.min(to, other.to));
    }
  }

  private record Parts(List<Integer> partition, List<SortKey> order) {}

  /**
   * @param below what the SELECT reads
   */
  WindowPlans(RexBuilder rexBuilder, Expressions expressions, PlanNode below) {
    this.rexBuilder = rexBuilder;
    this.expressions = expressions;
    plan = below;
    inputs = below.schema().size();
  }

  static boolean isIn(List<? extends RexNode> nodes) {
    return RexOver.containsOver(List.copyOf(nodes), null);
  }

  /**
   * The plan of expressions with window functions.
   *
   * @param choice which rows are kept, or null for all
   */
  PlanNode of(List<? extends RexNode> projects, Choice choice, Schema output) {
    List<RexNode> all = new ArrayList<>(projects);
    if (choice != null) {
      all.add(choice.ranking);
    }
    List<RexNode> read = ofColumnsRead(all);
    Choice chosenBy =
        choice == null
            ? null
            : new Choice((RexOver) read.get(projects.size()), choice.after, choice.to);
    return planned(read.subList(0, projects.size()), chosenBy, output);
  }

  /** Leaves columns out that nothing is about, so that they are not kept. */
  private List<RexNode> ofColumnsRead(List<RexNode> nodes) {
    ImmutableBitSet read = RelOptUtil.InputFinder.bits(nodes, null);
    if (read.cardinality() == inputs) {
      return nodes;
    }
    List<Integer> kept = read.asList();
    List<Column> columnsRead = kept.stream().map(plan.schema()::column).toList();
    List<Expr> outputs = new ArrayList<>();
    kept.forEach(c -> outputs.add(new Expr.Column(c, plan.schema().type(c))));
    plan = PlanBuilder.transform(plan, null, outputs, new Schema(columnsRead));
    inputs = kept.size();
    RexShuttle moved =
        new RexShuttle() {
          @Override
          public RexNode visitInputRef(RexInputRef ref) {
            return new RexInputRef(kept.indexOf(ref.getIndex()), ref.getType());
          }
        };
    return nodes.stream().map(node -> node.accept(moved)).toList();
  }

  private PlanNode planned(List<RexNode> projects, Choice choice, Schema output) {
    List<RexNode> simple = projects.stream().map(p -> p.accept(new Sums())).toList();
    Set<RexOver> overs = new LinkedHashSet<>();
    simple.forEach(p -> p.accept(new Finder(overs)));
    Map<Parts, List<RexOver>> whole = new LinkedHashMap<>();
    Map<Parts, List<RexOver>> ordered = new LinkedHashMap<>();
    for (RexOver over : overs) {
      Parts parts = parts(over);
      if (isWhole(over)) {
        Parts unordered = new Parts(parts.partition, List.of());
        whole.computeIfAbsent(unordered, p -> new ArrayList<>()).add(over);
      } else {
        ordered.computeIfAbsent(parts, p -> new ArrayList<>()).add(over);
      }
      arguments(over);
    }
    Parts chosen = choice == null ? null : parts(choice.ranking);
    if (!extras.isEmpty()) {
      compute();
    }
    whole.forEach((parts, calls) -> addWhole(parts.partition, calls));
    ordered.forEach(
        (parts, calls) -> {
          if (!parts.equals(chosen)) {
            addWindow(parts, calls, null);
          }
        });
    if (choice != null) {
      // Last: what other functions say is of all rows.
      addWindow(
          chosen,
          ordered.getOrDefault(chosen, List.of()),
          new KeptPlaces(ranking(choice.ranking), choice.after, choice.to));
    }
    List<Expr> outputs = new ArrayList<>();
    for (RexNode node : simple) {
      outputs.add(expressions.translate(node.accept(new Placer())));
    }
    return PlanBuilder.transform(plan, null, outputs, output);
  }

  /** The rows from one place on and before another, in an order, of a plan. */
  static PlanNode first(PlanNode input, List<SortKey> order, long after, long to) {
    return new PlanNode.Window(
        input,
        List.of(),
        order,
        List.of(),
        new KeptPlaces(WindowCall.Function.ROW_NUMBER, after, to),
        input.schema());
  }

  // ---- which rows are kept

  /** What a condition asks of a ranking among the expressions; null if it does not. */
  static Choice choice(RexNode condition, List<? extends RexNode> projects) {
    if (!(condition instanceof RexCall call) || call.getOperands().size() != 2) {
      return null;
    }
    RexNode left = call.getOperands().get(0);
    RexNode right = call.getOperands().get(1);
    SqlKind kind = call.getKind();
    if (left instanceof RexLiteral) {
      RexNode swap = left;
      left = right;
      right = swap;
      kind = kind.reverse();
    }
    if (!(left instanceof RexInputRef ref)
        || !(right instanceof RexLiteral literal)
        || !(projects.get(ref.getIndex()) instanceof RexOver over)
        || ranking(over) == null
        || !(literal.getValue() instanceof BigDecimal number)
        || number.stripTrailingZeros().scale() > 0
        || number.precision() - number.scale() > 18) {
      return null;
    }
    long n = number.longValue();
    return switch (kind) {
      case EQUALS -> new Choice(over, n - 1, n);
      case LESS_THAN -> new Choice(over, 0, n - 1);
      case LESS_THAN_OR_EQUAL -> new Choice(over, 0, n);
      case GREATER_THAN -> new Choice(over, n, Long.MAX_VALUE);
      case GREATER_THAN_OR_EQUAL -> new Choice(over, n - 1, Long.MAX_VALUE);
      default -> null;
    };
  }

  static boolean isRanking(RexOver over) {
    return ranking(over) != null;
  }

  private static WindowCall.Function ranking(RexOver over) {
    return switch (over.getAggOperator().getKind()) {
      case ROW_NUMBER -> WindowCall.Function.ROW_NUMBER;
      case RANK -> WindowCall.Function.RANK;
      case DENSE_RANK -> WindowCall.Function.DENSE_RANK;
      default -> null;
    };
  }

  // ---- steps

  private void compute() {
    List<Column> all = new ArrayList<>(plan.schema().columns());
    List<Expr> outputs = new ArrayList<>(Expr.columns(plan.schema()));
    for (RexNode extra : extras) {
      Expr expr = expressions.translate(extra);
      outputs.add(expr);
      all.add(new Column("$" + all.size(), expr.type()));
    }
    plan = PlanBuilder.transform(plan, null, outputs, new Schema(all));
  }

  private void addWhole(List<Integer> partition, List<RexOver> overs) {
    int before = plan.schema().size();
    plan = WholePartitions.of(plan, partition, overs.stream().map(this::aggregate).toList());
    for (int i = 0; i < overs.size(); i++) {
      columns.put(overs.get(i), before + partition.size() + i);
    }
  }

  private void addWindow(Parts parts, List<RexOver> overs, KeptPlaces kept) {
    List<Column> all = new ArrayList<>(plan.schema().columns());
    List<WindowCall> calls = new ArrayList<>();
    for (RexOver over : overs) {
      WindowCall call = call(over);
      columns.put(over, all.size());
      all.add(new Column(call.text(plan.schema()), call.output().type()));
      calls.add(call);
    }
    plan = new PlanNode.Window(plan, parts.partition, parts.order, calls, kept, new Schema(all));
  }

  // ---- calls

  private Parts parts(RexOver over) {
    RexWindow window = over.getWindow();
    List<Integer> partition =
        window.partitionKeys.stream().map(this::column).distinct().sorted().toList();
    List<SortKey> order = new ArrayList<>();
    for (RexFieldCollation key : window.orderKeys) {
      if (key.left instanceof RexLiteral) {
        continue; // orders nothing
      }
      boolean descending = key.getDirection().isDescending();
      NullDirection nulls = key.getNullDirection();
      boolean nullsFirst =
          nulls == NullDirection.UNSPECIFIED ? descending : nulls == NullDirection.FIRST;
      order.add(new SortKey(column(key.left), descending, nullsFirst));
    }
    return new Parts(partition, order);
  }

  /** The column that has an expression's value. */
  private int column(RexNode node) {
    if (node instanceof RexInputRef ref) {
      return ref.getIndex();
    }
    int known = extras.indexOf(node);
    if (known < 0) {
      known = extras.size();
      extras.add(node);
    }
    return inputs + known;
  }

  private static boolean isAggregate(RexOver over) {
    return switch (over.getAggOperator().getKind()) {
      case ROW_NUMBER,
          RANK,
          DENSE_RANK,
          PERCENT_RANK,
          CUME_DIST,
          NTILE,
          LAG,
          LEAD,
          FIRST_VALUE,
          LAST_VALUE,
          NTH_VALUE ->
          false;
      default -> true;
    };
  }

  private boolean isWhole(RexOver over) {
    Frame frame = WindowFrames.of(over);
    boolean inOrder = // the order of rows is that of the answer
        isAggregate(over)
            && AggregateFunctions.of(over.getAggOperator()).isCollected()
            && !parts(over).order.isEmpty();
    return isAggregate(over)
        && !inOrder
        && frame.exclusion() == Frame.Exclusion.NONE
        && frame.startsFirst()
        && (frame.endsLast()
            || frame.unit() == Frame.Unit.RANGE
                && frame.to().place() == Frame.Place.CURRENT
                && parts(over).order.isEmpty());
  }

  /** The columns a call is about; what LAG and the like count is not among them. */
  private List<Integer> arguments(RexOver over) {
    List<RexNode> operands = over.getOperands();
    List<Integer> arguments = new ArrayList<>();
    for (int i = 0; i < operands.size(); i++) {
      boolean number =
          switch (over.getAggOperator().getKind()) {
            case LAG, LEAD, NTH_VALUE -> i == 1;
            case NTILE -> true;
            default -> false;
          };
      if (!number) {
        arguments.add(column(operands.get(i)));
      }
    }
    return arguments;
  }

  private AggregateCall aggregate(RexOver over) {
    List<Integer> arguments = arguments(over);
    return new AggregateCall(
        AggregateFunctions.of(over.getAggOperator()),
        arguments,
        over.isDistinct(),
        -1,
        output(over));
  }

  private static Column output(RexOver over) {
    ColumnType type = TypeMapping.fromSql(over.getType());
    if (isAggregate(over) && over.getAggOperator().getKind() != SqlKind.COUNT) {
      type = type.withNullable(true); // of nothing but NULLs, whatever the library says
    }
    return new Column("$" + over.getAggOperator().getName(), type);
  }

  private WindowCall call(RexOver over) {
    String name = over.getAggOperator().getName();
    Frame frame = WindowFrames.of(over);
    if (isAggregate(over)) {
      AggregateCall aggregate = aggregate(over);
      refuse(aggregate, name);
      return new WindowCall(
          WindowCall.Function.AGGREGATE,
          aggregate.arguments(),
          0,
          aggregate,
          WindowFrames.checked(frame, parts(over).order),
          false,
          output(over));
    }
    WindowCall.Function function = WindowCall.Function.valueOf(name);
    long number =
        switch (function) {
          case LAG, LEAD -> over.getOperands().size() > 1 ? number(over, 1) : 1;
          case NTH_VALUE -> number(over, 1);
          case NTILE -> number(over, 0);
          default -> 0;
        };
    boolean counts =
        function == WindowCall.Function.NTH_VALUE || function == WindowCall.Function.NTILE;
    if (counts && number < 1) {
      throw new EngineException(Code.INVALID, name + " needs a number of 1 or more");
    }
    if (number < 0) { // so many rows the other way
      function =
          function == WindowCall.Function.LAG ? WindowCall.Function.LEAD : WindowCall.Function.LAG;
      number = -number;
    }
    boolean lag = function == WindowCall.Function.LAG;
    if (over.ignoreNulls() && (lag || function == WindowCall.Function.LEAD)) {
      // That many rows with a value away is a value of all rows on that side.
      function = lag ? WindowCall.Function.LAST_VALUE : WindowCall.Function.NTH_VALUE;
      frame = lag ? WindowFrames.BEFORE : WindowFrames.BEHIND;
      if (number == 0) {
        throw PlanBuilder.unsupported("IGNORE NULLS of the row itself");
      }
    }
    return new WindowCall(
        function,
        arguments(over),
        number,
        null,
        function.isFramed() ? WindowFrames.checked(frame, parts(over).order) : Frame.WHOLE,
        over.ignoreNulls(),
        output(over));
  }

  /** What can only be made of a whole partition. */
  private void refuse(AggregateCall call, String name) {
    boolean byText =
        (call.function() == AggregateCall.Function.ARG_MAX
                || call.function() == AggregateCall.Function.ARG_MIN)
            && plan.schema().type(call.arguments().get(1)).isVariable();
    boolean inOrderOfItsOwn =
        switch (call.function()) {
          case MODE, PERCENTILE_CONT, PERCENTILE_DISC -> true;
          default -> false;
        };
    if (call.distinct() || inOrderOfItsOwn || byText) {
      throw PlanBuilder.unsupported(
          (call.distinct() ? "DISTINCT in " : "") + name + " over less than the whole partition");
    }
  }

  private static long number(RexOver over, int operand) {
    RexNode node = over.getOperands().get(operand);
    if (node instanceof RexLiteral literal && literal.getValue() instanceof BigDecimal number) {
      return number.longValue();
    }
    throw PlanBuilder.unsupported(
        "a number in " + over.getAggOperator().getName() + " that is not constant");
  }

  // ---- expressions

  /** Gathers window functions. */
  private static final class Finder extends RexVisitorImpl<Void> {
    private final Set<RexOver> overs;

    Finder(Set<RexOver> overs) {
      super(true);
      this.overs = overs;
    }

    @Override
    public Void visitOver(RexOver over) {
      overs.add(over);
      return null;
    }
  }

  /** Puts the columns that have been computed where window functions were. */
  private final class Placer extends RexShuttle {
    @Override
    public RexNode visitOver(RexOver over) {
      return rexBuilder.makeInputRef(over.getType(), columns.get(over));
    }
  }

  /** The library writes a sum as one that is 0 of nothing, in a CASE that asks for the count. */
  private final class Sums extends RexShuttle {
    @Override
    public RexNode visitCall(RexCall call) {
      if (call.getKind() == SqlKind.CASE && call.getOperands().size() == 3) {
        RexNode value = call.getOperands().get(1);
        if (value.getKind() == SqlKind.CAST) {
          value = ((RexCall) value).getOperands().get(0);
        }
        if (value instanceof RexOver over && over.getAggOperator().getKind() == SqlKind.SUM0) {
          return rexBuilder.makeOver(
              call.getType(),
              org.apache.calcite.sql.fun.SqlStdOperatorTable.SUM,
              over.getOperands(),
              over.getWindow().partitionKeys,
              over.getWindow().orderKeys,
              over.getWindow().getLowerBound(),
              over.getWindow().getUpperBound(),
              over.getWindow().getExclude(),
              over.getWindow().isRows(),
              true,
              false,
              over.isDistinct(),
              false);
        }
      }
      return super.visitCall(call);
    }
  }
}
