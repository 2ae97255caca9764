package dripledger.engine.sql;

import dripledger.engine.EngineException;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.expr.TypeMapping;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.rel.RelFieldCollation;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Aggregate;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.core.Sort;
import org.apache.calcite.rel.core.TableScan;
import org.apache.calcite.rel.core.Union;
import org.apache.calcite.rel.core.Values;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexOver;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.rex.RexVisitorImpl;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.type.SqlTypeName;

/** Turns the SQL library's algebra into our plan. Single use, single thread. */
final class PlanBuilder {
  private final RexBuilder rexBuilder;
  private final ProgramCompiler compiler;
  private final CatalogSchema schema;

  PlanBuilder(RexBuilder rexBuilder, ProgramCompiler compiler, CatalogSchema schema) {
    this.rexBuilder = rexBuilder;
    this.compiler = compiler;
    this.schema = schema;
  }

  private static EngineException unsupported(String what) {
    return new EngineException(EngineException.Code.NOT_SUPPORTED, "not supported yet: " + what);
  }

  /** The plan of a query whose top may sort and limit. */
  Command.QueryPlan query(RelNode rel, List<Map.Entry<Integer, String>> fields) {
    List<Command.SortKey> order = new ArrayList<>();
    long offset = 0;
    long limit = -1;
    RelNode below = rel;
    if (rel instanceof Sort sort) {
      for (RelFieldCollation c : sort.getCollation().getFieldCollations()) {
        boolean descending = c.direction.isDescending();
        boolean nullsFirst =
            c.nullDirection == RelFieldCollation.NullDirection.UNSPECIFIED
                ? descending
                : c.nullDirection == RelFieldCollation.NullDirection.FIRST;
        order.add(new Command.SortKey(c.getFieldIndex(), descending, nullsFirst));
      }
      offset = sort.offset == null ? 0 : count(sort.offset);
      limit = sort.fetch == null ? -1 : count(sort.fetch);
      below = sort.getInput();
    }
    PlanNode plan = build(below);
    int[] outputs = fields.stream().mapToInt(Map.Entry::getKey).toArray();
    List<Column> columns =
        fields.stream().map(f -> new Column(f.getValue(), plan.schema().type(f.getKey()))).toList();
    return new Command.QueryPlan(plan, outputs, columns, order, offset, limit);
  }

  private static long count(RexNode node) {
    if (node instanceof RexLiteral literal) {
      return literal.getValueAs(java.math.BigDecimal.class).longValue();
    }
    throw unsupported("LIMIT and OFFSET that are not constant");
  }

  PlanNode build(RelNode rel) {
    if (rel instanceof TableScan scan) {
      CatalogSchema.Relation table = scan.getTable().unwrap(CatalogSchema.Relation.class);
      CatalogObject object = table.object();
      schema.use(object);
      int[] key =
          object instanceof CatalogObject.Table t
              ? t.primaryKey()
              : object instanceof CatalogObject.MaterializedView m && m.keyProven()
                  ? m.key()
                  : null;
      boolean appendOnly =
          object instanceof CatalogObject.Stream
              || object instanceof CatalogObject.MaterializedView m && m.plan().appendOnly();
      return new PlanNode.Source(object.id(), object.name(), object.schema(), appendOnly, key);
    }
    if (rel instanceof Filter filter) {
      return transform(filter.getInput(), filter.getCondition(), null, filter);
    }
    if (rel instanceof Project project) {
      return project.getInput() instanceof Filter filter
          ? transform(filter.getInput(), filter.getCondition(), project.getProjects(), project)
          : transform(project.getInput(), null, project.getProjects(), project);
    }
    if (rel instanceof Aggregate aggregate) {
      return aggregate(aggregate);
    }
    if (rel instanceof Union union) {
      return union(union);
    }
    if (rel instanceof Values values) {
      return values(values);
    }
    if (rel instanceof Sort) {
      throw unsupported(
          "ORDER BY or LIMIT inside a query; sort and limit where the answer is read");
    }
    throw unsupported(
        rel.getRelTypeName().replace("Logical", "").toUpperCase(java.util.Locale.ROOT));
  }

  private PlanNode transform(
      RelNode input, RexNode filter, List<? extends RexNode> projects, RelNode shape) {
    PlanNode below = build(input);
    List<RexNode> outputs = new ArrayList<>();
    if (projects == null) {
      for (RelDataTypeField f : input.getRowType().getFieldList()) {
        outputs.add(rexBuilder.makeInputRef(f.getType(), f.getIndex()));
      }
    } else {
      outputs.addAll(projects);
    }
    List<RexNode> all = new ArrayList<>(outputs);
    if (filter != null) {
      all.add(filter);
    }
    all.forEach(n -> n.accept(new OverRefuser()));
    Schema output = TypeMapping.schema(shape.getRowType());
    List<String> texts = new ArrayList<>();
    if (projects != null) {
      for (int i = 0; i < outputs.size(); i++) {
        String name = output.column(i).name();
        String text = ExpressionText.of(outputs.get(i), below.schema().names());
        texts.add(text.equals(name) ? name : text + " as " + name);
      }
    }
    return new PlanNode.Transform(
        below,
        compiler.compile(below.schema(), filter, outputs, output),
        filter == null ? null : ExpressionText.of(filter, below.schema().names()),
        texts,
        equalities(filter, below.schema()),
        output,
        projectKey(below.key(), outputs));
  }

  /** The columns that a condition holds to a constant, with the value. */
  private Map<Integer, Object> equalities(RexNode filter, Schema input) {
    Map<Integer, Object> found = new HashMap<>();
    if (filter != null) {
      for (RexNode each : RelOptUtil.conjunctions(RexUtil.expandSearch(rexBuilder, null, filter))) {
        if (each instanceof RexCall call && call.isA(SqlKind.EQUALS)) {
          equality(call.getOperands().get(0), call.getOperands().get(1), input, found);
          equality(call.getOperands().get(1), call.getOperands().get(0), input, found);
        }
      }
    }
    return Map.copyOf(found);
  }

  private static void equality(
      RexNode column, RexNode value, Schema input, Map<Integer, Object> into) {
    if (!(column instanceof RexInputRef ref)
        || !(value instanceof RexLiteral literal)
        || literal.isNull()) {
      return;
    }
    ColumnType type = input.type(ref.getIndex());
    if (type.kind().isInteger() && SqlTypeName.EXACT_TYPES.contains(literal.getTypeName())) {
      java.math.BigDecimal number = literal.getValueAs(java.math.BigDecimal.class);
      if (number.stripTrailingZeros().scale() <= 0 && number.precision() - number.scale() < 19) {
        into.put(ref.getIndex(), number.longValue());
      }
    } else if (type.kind() == ColumnType.Kind.VARCHAR
        && SqlTypeName.CHAR_TYPES.contains(literal.getTypeName())) {
      into.put(ref.getIndex(), literal.getValueAs(String.class));
    }
  }

  private static final class OverRefuser extends RexVisitorImpl<Void> {
    OverRefuser() {
      super(true);
    }

    @Override
    public Void visitOver(RexOver over) {
      throw unsupported("OVER (…)");
    }
  }

  private static int[] projectKey(int[] key, List<RexNode> outputs) {
    if (key == null) {
      return null;
    }
    int[] moved = new int[key.length];
    for (int k = 0; k < key.length; k++) {
      moved[k] = -1;
      for (int i = 0; i < outputs.size() && moved[k] < 0; i++) {
        if (outputs.get(i) instanceof RexInputRef ref && ref.getIndex() == key[k]) {
          moved[k] = i;
        }
      }
      if (moved[k] < 0) {
        return null;
      }
    }
    return moved;
  }

  private PlanNode aggregate(Aggregate rel) {
    if (rel.getGroupType() != Aggregate.Group.SIMPLE) {
      throw unsupported("GROUPING SETS");
    }
    PlanNode input = build(rel.getInput());
    int[] groups = rel.getGroupSet().toArray();
    List<AggregateCall> calls = new ArrayList<>();
    Schema output = TypeMapping.schema(rel.getRowType());
    for (int i = 0; i < rel.getAggCallList().size(); i++) {
      org.apache.calcite.rel.core.AggregateCall call = rel.getAggCallList().get(i);
      AggregateCall.Function function =
          switch (call.getAggregation().getKind()) {
            case COUNT -> AggregateCall.Function.COUNT;
            case SUM -> AggregateCall.Function.SUM;
            case AVG -> AggregateCall.Function.AVG;
            case MIN -> AggregateCall.Function.MIN;
            case MAX -> AggregateCall.Function.MAX;
            case ARG_MAX -> AggregateCall.Function.ARG_MAX;
            case ARG_MIN -> AggregateCall.Function.ARG_MIN;
            default -> throw unsupported("aggregate function " + call.getAggregation().getName());
          };
      calls.add(
          new AggregateCall(
              function,
              call.getArgList().stream().mapToInt(Integer::intValue).toArray(),
              call.isDistinct(),
              call.filterArg,
              output.column(groups.length + i)));
    }
    return new PlanNode.Aggregate(input, groups, calls, named(output, calls, input.schema()));
  }

  /** Gives results that have no name of their own one that EXPLAIN can show: the call itself. */
  private static Schema named(Schema output, List<AggregateCall> calls, Schema input) {
    List<Column> columns = new ArrayList<>(output.columns());
    int first = columns.size() - calls.size();
    for (int i = 0; i < calls.size(); i++) {
      Column column = columns.get(first + i);
      if (column.name().startsWith("$")) {
        columns.set(first + i, new Column(calls.get(i).text(input), column.type()));
      }
    }
    return new Schema(columns);
  }

  private PlanNode union(Union rel) {
    Schema output = TypeMapping.schema(rel.getRowType());
    List<PlanNode> inputs = new ArrayList<>();
    for (RelNode input : rel.getInputs()) {
      PlanNode plan = build(input);
      inputs.add(sameStorage(plan.schema(), output) ? plan : castTo(plan, input, rel, output));
    }
    PlanNode all = new PlanNode.UnionAll(inputs, output);
    if (rel.all) {
      return all;
    }
    int[] groups = new int[output.size()];
    Arrays.setAll(groups, i -> i);
    return new PlanNode.Aggregate(all, groups, List.of(), output);
  }

  private static boolean sameStorage(Schema a, Schema b) {
    for (int i = 0; i < a.size(); i++) {
      ColumnType x = a.type(i);
      ColumnType y = b.type(i);
      if (x.kind() != y.kind() || x.isVariable() != y.isVariable() || x.scale() != y.scale()) {
        return false;
      }
    }
    return true;
  }

  private PlanNode castTo(PlanNode plan, RelNode input, Union rel, Schema output) {
    List<RexNode> casts = new ArrayList<>();
    for (int i = 0; i < output.size(); i++) {
      casts.add(
          rexBuilder.makeCast(
              rel.getRowType().getFieldList().get(i).getType(), rexBuilder.makeInputRef(input, i)));
    }
    List<String> names = output.columns().stream().map(Column::name).toList();
    return new PlanNode.Transform(
        plan,
        compiler.compile(plan.schema(), null, casts, output),
        null,
        names,
        Map.of(),
        output,
        projectKey(plan.key(), casts));
  }

  private PlanNode values(Values rel) {
    Schema output = TypeMapping.schema(rel.getRowType());
    List<Object[]> rows = new ArrayList<>();
    // Each row goes through the same compiled code as every other literal.
    Schema none = new Schema(List.of());
    Map<List<RexLiteral>, Object[]> seen = new HashMap<>();
    for (List<RexLiteral> tuple : rel.getTuples()) {
      rows.add(seen.computeIfAbsent(tuple, t -> evaluate(none, t, output)));
    }
    return new PlanNode.Values(output, rows);
  }

  private Object[] evaluate(Schema none, List<RexLiteral> tuple, Schema output) {
    ProgramCompiler.CompiledProgram program =
        compiler.compile(none, null, new ArrayList<RexNode>(tuple), output);
    Page page = new Page(new RowLayout(output));
    program.program().run(new byte[0], 0, page.begin());
    page.commit(1);
    return BoxedRows.read(program.output(), page.bytes(), page.start(0));
  }
}
