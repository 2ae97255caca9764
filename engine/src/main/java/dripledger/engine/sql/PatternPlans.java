package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.Accumulators;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.ConstantFolding;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Program;
import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.pattern.AfterMatch;
import dripledger.engine.pattern.Automaton;
import dripledger.engine.pattern.PatternItem;
import dripledger.engine.pattern.RowPattern;
import dripledger.engine.plan.InTime;
import dripledger.engine.plan.Matches;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.Publishing;
import dripledger.engine.row.Column;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.apache.calcite.rel.core.Match;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexPatternFieldRef;
import org.apache.calcite.rex.RexShuttle;
import org.apache.calcite.sql.SqlAggFunction;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlMatchRecognize.AfterOption;
import org.apache.calcite.sql.type.SqlTypeName;

/** MATCH_RECOGNIZE as a plan. Single use. */
final class PatternPlans {
  private static final int MOST_VARIABLES = 63;
  private static final int MOST_ROWS_AWAY = 10_000;

  private final RexBuilder rex;
  private final Expressions expressions;
  private final Match match;
  private final RelDataType inputType;
  private final Map<String, Integer> variables = new LinkedHashMap<>(); // as the pattern has them
  private final List<RexNode> columns = new ArrayList<>(); // of the input that are read

  PatternPlans(RexBuilder rex, Expressions expressions, Match match) {
    this.rex = rex;
    this.expressions = expressions;
    this.match = match;
    inputType = match.getInput().getRowType();
  }

  /**
   * The plan.
   *
   * @param kept whether rows are waited for until they are settled, if they are of a stream
   */
  PlanNode plan(PlanNode input, boolean kept) {
    RowPattern pattern = pattern(match.getPattern());
    checkSize(pattern);
    if (variables.size() > MOST_VARIABLES) {
      throw new EngineException(
          Code.LIMIT, "a pattern has at most " + MOST_VARIABLES + " variables", null);
    }
    List<Integer> partition = new ArrayList<>();
    match.getPartitionKeys().forEach(c -> partition.add(column(c)));
    List<SortKey> order = new ArrayList<>();
    for (SortKey key : PlanBuilder.order(match.getOrderKeys())) {
      order.add(new SortKey(column(key.column()), key.descending(), key.nullsFirst()));
    }
    if (order.isEmpty()) {
      throw new EngineException(
          Code.INVALID, "a pattern is of rows in an order", "ORDER BY at in MATCH_RECOGNIZE (…)");
    }
    List<Matches.Variable> all = new ArrayList<>();
    for (String name : List.copyOf(variables.keySet())) {
      RexNode condition = match.getPatternDefinitions().get(name);
      all.add(new Matches.Variable(name, condition == null ? null : condition(condition)));
    }
    Matches.Made output = output();
    long within = within(order.get(0));
    PlanNode rows = PlanBuilder.transform(input, null, outputs(), columnSchema());
    PlanNode settled = kept ? settled(rows, order.get(0)) : null;
    long delay = settled == null ? -1 : InTime.delay(settled, order.get(0).column());
    Matches.Anchors anchors = new Matches.Anchors(match.isStrictStart(), match.isStrictEnd());
    if (settled != null && (anchors.start() || anchors.end())) {
      throw new EngineException(
          Code.INVALID,
          "^ and $ have no meaning in a stream: its rows are forgotten, and never end",
          "leave them out, or ask once");
    }
    return new Matches(
        settled == null ? rows : settled,
        partition,
        order,
        pattern,
        all,
        anchors,
        after(),
        within,
        match.isAllRows(),
        output,
        delay);
  }

  /** The rows in time, or null if they are not in the order of a time by which they are settled. */
  private static PlanNode settled(PlanNode rows, SortKey first) {
    return first.descending() ? null : Publishing.settling(rows, first.column());
  }

  private long within(SortKey first) {
    if (match.getInterval() == null) {
      return -1;
    }
    boolean inTime =
        inputColumn(first.column()).getType().getSqlTypeName() == SqlTypeName.TIMESTAMP;
    if (!inTime || first.descending() || first.nullsFirst()) {
      throw new EngineException(
          Code.INVALID,
          "WITHIN measures a time by which rows are ordered",
          "ORDER BY a TIMESTAMP first, ascending");
    }
    boolean ofDays =
        SqlTypeName.DAY_INTERVAL_TYPES.contains(match.getInterval().getType().getSqlTypeName());
    if (!ofDays) {
      throw new EngineException(
          Code.INVALID, "WITHIN takes an interval of days or less", "INTERVAL '10' MINUTE");
    }
    return ((RexLiteral) match.getInterval())
        .getValueAs(BigDecimal.class)
        .multiply(BigDecimal.valueOf(1000))
        .longValueExact();
  }

  // ---- the pattern

  private static void checkSize(RowPattern pattern) {
    try {
      Automaton.of(pattern);
    } catch (IllegalArgumentException e) {
      throw new EngineException(
          Code.LIMIT, e.getMessage(), "ask for fewer repetitions; + and * are of any number");
    }
  }

  private int variable(String name) {
    return variables.computeIfAbsent(name, n -> variables.size());
  }

  private RowPattern pattern(RexNode node) {
    if (node instanceof RexLiteral name) {
      return new RowPattern.Variable(variable(name.getValueAs(String.class)));
    }
    RexCall call = (RexCall) node;
    List<RexNode> operands = call.getOperands();
    return switch (call.getKind()) {
      case PATTERN_CONCAT -> new RowPattern.Sequence(patterns(operands));
      case PATTERN_ALTER -> new RowPattern.Choice(patterns(operands));
      case PATTERN_EXCLUDED -> new RowPattern.Excluded(pattern(operands.get(0)));
      case PATTERN_PERMUTE -> permuted(operands);
      case PATTERN_QUANTIFIER -> repeat(operands);
      default -> throw PlanBuilder.unsupported("a pattern with " + call.getOperator().getName());
    };
  }

  private RowPattern repeat(List<RexNode> operands) {
    int least = number(operands.get(1));
    int most = number(operands.get(2));
    if (most >= 0 && most < Math.max(1, least)) {
      throw new EngineException(
          Code.INVALID,
          "a part of a pattern is asked for {" + least + "," + most + "} times",
          "the greater number is the second, and at least 1");
    }
    boolean reluctant = ((RexLiteral) operands.get(3)).getValueAs(Boolean.class);
    return new RowPattern.Repeat(pattern(operands.get(0)), least, most, reluctant);
  }

  private RowPattern permuted(List<RexNode> operands) {
    if (operands.size() > 6) {
      throw new EngineException(
          Code.LIMIT,
          "PERMUTE of " + operands.size() + " has too many orders; the limit is 6",
          null);
    }
    return RowPattern.permuted(patterns(operands));
  }

  private List<RowPattern> patterns(List<RexNode> nodes) {
    return nodes.stream().map(this::pattern).toList();
  }

  private static int numberOf(RexNode node) {
    int number = number(node);
    if (Math.abs(number) > MOST_ROWS_AWAY) {
      throw new EngineException(
          Code.LIMIT, "a pattern looks at most " + MOST_ROWS_AWAY + " rows away", null);
    }
    return number;
  }

  private static int number(RexNode node) {
    BigDecimal number = ((RexLiteral) node).getValueAs(BigDecimal.class);
    if (number.compareTo(BigDecimal.valueOf(Automaton.MOST)) > 0) {
      throw new EngineException(
          Code.LIMIT, "a part of a pattern is asked for " + number + " times", null);
    }
    return number.intValueExact();
  }

  private AfterMatch after() {
    RexNode after = match.getAfter();
    if (after instanceof RexLiteral literal) {
      boolean past = literal.getValueAs(AfterOption.class) == AfterOption.SKIP_PAST_LAST_ROW;
      return new AfterMatch(
          past ? AfterMatch.Place.PAST_LAST_ROW : AfterMatch.Place.NEXT_ROW, List.of());
    }
    RexCall call = (RexCall) after;
    boolean first = call.getOperator().getName().contains("FIRST");
    String name = ((RexLiteral) call.getOperands().get(0)).getValueAs(String.class);
    return new AfterMatch(
        first ? AfterMatch.Place.FIRST_OF : AfterMatch.Place.LAST_OF, variablesOf(name));
  }

  /** The variables that a name stands for; none if it is that of the rows. */
  private List<Integer> variablesOf(String name) {
    if (variables.containsKey(name)) {
      return List.of(variables.get(name));
    }
    if (!match.getSubsets().containsKey(name)) {
      return List.of();
    }
    return match.getSubsets().get(name).stream().map(this::variable).sorted().toList();
  }

  // ---- what is read of the rows

  /** Where an expression of the input's columns is among those that are read. */
  private int column(RexNode expression) {
    int known = columns.indexOf(expression);
    if (known < 0) {
      columns.add(expression);
      known = columns.size() - 1;
    }
    return known;
  }

  private int column(int input) {
    return column(rex.makeInputRef(inputType.getFieldList().get(input).getType(), input));
  }

  private RexNode inputColumn(int column) {
    return columns.get(column);
  }

  private List<Expr> outputs() {
    return columns.stream().map(expressions::translate).map(ConstantFolding::of).toList();
  }

  private Schema columnSchema() {
    List<Column> all = new ArrayList<>();
    for (int i = 0; i < columns.size(); i++) {
      RexNode each = columns.get(i);
      String name =
          each instanceof org.apache.calcite.rex.RexInputRef ref
              ? inputType.getFieldNames().get(ref.getIndex())
              : "column " + i;
      all.add(new Column(name, TypeMapping.fromSql(each.getType())));
    }
    return new Schema(all);
  }

  // ---- conditions and measures

  private Matches.Made condition(RexNode condition) {
    Items items = new Items(true);
    Expr filter = ConstantFolding.of(expressions.translate(condition.accept(items)));
    return made(items, filter, List.of(), new Schema(List.of()));
  }

  private Matches.Made output() {
    Items items = new Items(false);
    List<Expr> outputs = new ArrayList<>();
    List<RelDataTypeField> fields = match.getRowType().getFieldList();
    int measures = match.getMeasures().size();
    for (RelDataTypeField field : fields.subList(0, fields.size() - measures)) {
      int input = inputType.getField(field.getName(), true, false).getIndex();
      int column = column(input);
      PatternItem own = new PatternItem.Own(column);
      outputs.add(expressions.translate(items.item(own, field.getType())));
    }
    for (RexNode measure : match.getMeasures().values()) {
      RexCall call = (RexCall) measure;
      items.running = call.getKind() == SqlKind.RUNNING;
      RexNode of = call.getOperands().get(0).accept(items);
      outputs.add(ConstantFolding.of(expressions.translate(of)));
    }
    return made(items, null, outputs, TypeMapping.schema(match.getRowType()));
  }

  private static Matches.Made made(Items items, Expr filter, List<Expr> outputs, Schema output) {
    List<Column> columns = new ArrayList<>();
    for (int i = 0; i < items.types.size(); i++) {
      columns.add(new Column("item " + i, TypeMapping.fromSql(items.types.get(i))));
    }
    Program program = new Program(new Schema(columns), filter, outputs, output);
    ProgramCompiler.compile(program); // what cannot be computed is said now
    return new Matches.Made(items.items, program);
  }

  /** Puts columns of the row of items in the place of what is read of a match. */
  private final class Items extends RexShuttle {
    final List<PatternItem> items = new ArrayList<>();
    final List<RelDataType> types = new ArrayList<>();
    private boolean running;
    private int shift;

    Items(boolean running) {
      this.running = running;
    }

    RexNode item(PatternItem item, RelDataType type) {
      int known = items.indexOf(item);
      if (known < 0) {
        known = items.size();
        items.add(item);
        types.add(type);
      }
      return rex.makeInputRef(types.get(known), known);
    }

    private RexNode value(List<Integer> of, boolean first, int offset, RexNode column) {
      PatternItem item =
          new PatternItem.Value(of, first, offset, shift, running, column(plain(column)));
      return item(item, nullable(column.getType()));
    }

    private RelDataType nullable(RelDataType type) {
      return rex.getTypeFactory().createTypeWithNullability(type, true);
    }

    @Override
    public RexNode visitPatternFieldRef(RexPatternFieldRef ref) {
      return value(variablesOf(ref.getAlpha()), false, 0, ref);
    }

    @Override
    public RexNode visitCall(RexCall call) {
      String name = call.getOperator().getName();
      switch (call.getKind()) {
        case FIRST, LAST -> {
          RexNode of = call.getOperands().get(0);
          return value(variablesOf(alpha(of)), call.getKind() == SqlKind.FIRST, offset(call), of);
        }
        case PREV, NEXT -> {
          int away = call.getKind() == SqlKind.PREV ? -offset(call) : offset(call);
          return shifted(call.getOperands().get(0), away);
        }
        case FINAL, RUNNING -> {
          boolean outer = running;
          running = call.getKind() == SqlKind.RUNNING;
          RexNode of = call.getOperands().get(0).accept(this);
          running = outer;
          return of;
        }
        default -> {
          if (name.equals("CLASSIFIER")) {
            return item(new PatternItem.Label(running), nullable(call.getType()));
          }
          if (call.getOperator() == PatternWords.NEIGHBOUR) {
            return shifted(call.getOperands().get(0), numberOf(call.getOperands().get(1)));
          }
          if (name.equals("MATCH_NUMBER")) {
            return item(new PatternItem.Number(), call.getType());
          }
          return call.getOperator() instanceof SqlAggFunction function
              ? total(call, function)
              : made((RexCall) super.visitCall(call));
        }
      }
    }

    private RexNode shifted(RexNode of, int away) {
      int outer = shift;
      shift += away;
      RexNode shifted = of.accept(this);
      shift = outer;
      return shifted;
    }

    /** A call over what may be NULL, which the library does not know of. */
    private RexNode made(RexCall call) {
      boolean sure =
          call.isA(SqlKind.IS_NULL)
              || call.isA(SqlKind.IS_NOT_NULL)
              || call.isA(SqlKind.IS_TRUE)
              || call.isA(SqlKind.IS_NOT_TRUE)
              || call.isA(SqlKind.IS_FALSE)
              || call.isA(SqlKind.IS_NOT_FALSE)
              || call.getOperands().stream().noneMatch(o -> o.getType().isNullable());
      return sure ? call : call.clone(nullable(call.getType()), call.getOperands());
    }

    private RexNode total(RexCall call, SqlAggFunction function) {
      List<Integer> arguments = new ArrayList<>();
      String alpha = null;
      for (RexNode operand : call.getOperands()) {
        alpha = alpha == null ? alpha(operand) : alpha;
        arguments.add(column(plain(operand)));
      }
      boolean counts = function.getKind() == SqlKind.COUNT;
      RelDataType type = counts ? call.getType() : nullable(call.getType());
      AggregateCall total =
          new AggregateCall(
              AggregateFunctions.of(function),
              arguments,
              false,
              -1,
              new Column("total", TypeMapping.fromSql(type)));
      if (Accumulators.of(total, new RowLayout(columnSchema()), true) == null) {
        throw PlanBuilder.unsupported(function.getName() + " of the rows of a match");
      }
      List<Integer> of = alpha == null ? List.of() : variablesOf(alpha);
      return item(new PatternItem.Total(of, total, running), type);
    }
  }

  /** How many rows further, or away. */
  private static int offset(RexCall call) {
    if (call.getOperands().size() < 2) {
      return call.getKind() == SqlKind.PREV || call.getKind() == SqlKind.NEXT ? 1 : 0;
    }
    return numberOf(call.getOperands().get(1));
  }

  /** The variable that an expression is of, or null if it is of none. */
  private static String alpha(RexNode node) {
    String[] found = new String[1];
    node.accept(
        new RexShuttle() {
          @Override
          public RexNode visitPatternFieldRef(RexPatternFieldRef ref) {
            found[0] = ref.getAlpha();
            return ref;
          }
        });
    return found[0];
  }

  /** An expression of one row of a match, as one of the input's columns. */
  private RexNode plain(RexNode node) {
    return node.accept(
        new RexShuttle() {
          @Override
          public RexNode visitPatternFieldRef(RexPatternFieldRef ref) {
            return rex.makeInputRef(ref.getType(), ref.getIndex());
          }

          @Override
          public RexNode visitCall(RexCall call) {
            boolean current = call.getKind() == SqlKind.LAST && call.getOperands().size() < 3;
            return current && isZero(call)
                ? call.getOperands().get(0).accept(this)
                : super.visitCall(call);
          }
        });
  }

  private static boolean isZero(RexCall call) {
    return call.getOperands().size() < 2
        || call.getOperands().get(1) instanceof RexLiteral literal
            && literal.getValueAs(BigDecimal.class).signum() == 0;
  }
}
