package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.plan.RelTraitSet;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.RelWriter;
import org.apache.calcite.rel.SingleRel;
import org.apache.calcite.rel.core.Correlate;
import org.apache.calcite.rel.core.CorrelationId;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.JoinRelType;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.core.Uncollect;
import org.apache.calcite.rel.core.Values;
import org.apache.calcite.rel.logical.LogicalAggregate;
import org.apache.calcite.rel.logical.LogicalFilter;
import org.apache.calcite.rel.logical.LogicalProject;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCorrelVariable;
import org.apache.calcite.rex.RexFieldAccess;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexShuttle;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.util.ImmutableBitSet;
import org.apache.calcite.util.mapping.Mapping;
import org.apache.calcite.util.mapping.MappingType;
import org.apache.calcite.util.mapping.Mappings;

/**
 * A relation's rows, each as often as its arrays have elements: what the library has as a relation
 * correlated with its own arrays is a step over the relation's rows here.
 */
final class Unnested extends SingleRel {
  private final int kept;
  private final boolean ordinality;
  private final boolean outer;

  /**
   * @param kept how many of the input's columns go on; those behind are arrays
   */
  private Unnested(RelNode input, int kept, boolean ordinality, boolean outer, RelDataType type) {
    super(input.getCluster(), input.getTraitSet(), input);
    this.kept = kept;
    this.ordinality = ordinality;
    this.outer = outer;
    this.rowType = type;
  }

  int kept() {
    return kept;
  }

  boolean withOrdinality() {
    return ordinality;
  }

  boolean isOuter() {
    return outer;
  }

  /**
   * The same without columns that nobody reads.
   *
   * @param columns those kept that are read
   * @param where in the input each of the columns that it had is now
   */
  RelNode trimmed(RelNode input, ImmutableBitSet columns, Mapping where) {
    int width = getInput().getRowType().getFieldCount();
    RexBuilder rex = getCluster().getRexBuilder();
    List<RexNode> all = new ArrayList<>();
    List<String> names = new ArrayList<>();
    for (int i : columns.union(ImmutableBitSet.range(kept, width))) {
      all.add(rex.makeInputRef(input, where.getTarget(i)));
      names.add(getInput().getRowType().getFieldNames().get(i));
    }
    var type = getCluster().getTypeFactory().builder();
    for (int i : columns.union(ImmutableBitSet.range(kept, rowType.getFieldCount()))) {
      type.add(rowType.getFieldList().get(i));
    }
    RelNode below = LogicalProject.create(input, List.of(), all, names, Set.of());
    return new Unnested(below, columns.cardinality(), ordinality, outer, type.build());
  }

  /** From the columns it has to those it has when others are left out. */
  Mapping mapping(ImmutableBitSet columns) {
    int width = rowType.getFieldCount();
    int elements = width - kept;
    Mapping mapping =
        Mappings.create(MappingType.INVERSE_SURJECTION, width, columns.cardinality() + elements);
    int at = 0;
    for (int i : columns.union(ImmutableBitSet.range(kept, width))) {
      mapping.set(i, at++);
    }
    return mapping;
  }

  @Override
  public RelNode copy(RelTraitSet traits, List<RelNode> inputs) {
    return new Unnested(inputs.get(0), kept, ordinality, outer, rowType);
  }

  @Override
  public RelWriter explainTerms(RelWriter writer) {
    return super.explainTerms(writer)
        .item("kept", kept)
        .item("ordinality", ordinality)
        .item("outer", outer);
  }

  static boolean isIn(RelNode rel) {
    return rel instanceof Unnested || rel.getInputs().stream().anyMatch(Unnested::isIn);
  }

  /** A query in which arrays are taken apart in this form. */
  static RelNode in(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            if (other instanceof Correlate c) {
              RelNode known = ofOwnArrays(c);
              return known != null ? known.accept(this) : super.visit(withArraysOf(c));
            }
            return other instanceof Uncollect u && !asksArrays(u)
                ? ofRows(u).accept(this)
                : super.visit(other);
          }
        });
  }

  /** Whether what is taken apart is a correlated row's. */
  private static boolean asksArrays(Uncollect uncollect) {
    return uncollect.getInput() instanceof Project arrays
        && arrays.getInput() instanceof Values
        && !RelOptUtil.getVariablesUsed(arrays).isEmpty();
  }

  /**
   * A query that asks an array of the correlated row somewhere within: the arrays there are, each
   * taken apart once, correlated by the array itself.
   */
  private static RelNode withArraysOf(Correlate correlate) {
    RelNode right =
        correlate
            .getRight()
            .accept(
                new RelHomogeneousShuttle() {
                  @Override
                  public RelNode visit(RelNode other) {
                    return other instanceof Uncollect u
                            && asksArrays(u)
                            && RelOptUtil.getVariablesUsed(u.getInput())
                                .equals(Set.of(correlate.getCorrelationId()))
                        ? elementsOf(correlate, u)
                        : super.visit(other);
                  }
                });
    return correlate.copy(correlate.getTraitSet(), List.of(correlate.getLeft(), right));
  }

  private static RelNode elementsOf(Correlate correlate, Uncollect uncollect) {
    Project arrays = (Project) uncollect.getInput();
    RelNode left = correlate.getLeft();
    RexBuilder rex = left.getCluster().getRexBuilder();
    OwnColumns own = new OwnColumns(correlate.getCorrelationId(), columns(left), List.of());
    List<RexNode> asked = arrays.getProjects().stream().map(e -> e.accept(own)).toList();
    RelNode known = project(left, asked, arrays.getRowType().getFieldNames());
    ImmutableBitSet all = ImmutableBitSet.range(asked.size());
    known = LogicalAggregate.create(known, List.of(), all, null, List.of());
    List<RexNode> twice = new ArrayList<>(columns(known));
    twice.addAll(columns(known));
    RelNode elements = over(project(known, twice, null), columns(known), uncollect, false);
    List<RexNode> same = new ArrayList<>();
    for (int i = 0; i < asked.size(); i++) {
      same.add(
          rex.makeCall(
              SqlStdOperatorTable.IS_NOT_DISTINCT_FROM,
              rex.makeInputRef(elements, i),
              arrays.getProjects().get(i)));
    }
    RelNode chosen = LogicalFilter.create(elements, RexUtil.composeConjunction(rex, same));
    List<RexNode> items = columns(chosen);
    return project(
        chosen, items.subList(asked.size(), items.size()), uncollect.getRowType().getFieldNames());
  }

  private static List<RexNode> columns(RelNode rel) {
    RexBuilder rex = rel.getCluster().getRexBuilder();
    List<RexNode> columns = new ArrayList<>();
    for (int i = 0; i < rel.getRowType().getFieldCount(); i++) {
      columns.add(rex.makeInputRef(rel, i));
    }
    return columns;
  }

  /** A relation of nothing but elements. */
  private static RelNode ofRows(Uncollect uncollect) {
    return over(uncollect.getInput(), List.of(), uncollect, false);
  }

  /** A relation with the elements of its own arrays; null if it is something else. */
  private static RelNode ofOwnArrays(Correlate correlate) {
    RelNode right = correlate.getRight();
    boolean outer = correlate.getJoinType() == JoinRelType.LEFT;
    while (right instanceof Project || right instanceof Filter && !outer) {
      right = right.getInput(0);
    }
    if (!outer && correlate.getJoinType() != JoinRelType.INNER
        || !(right instanceof Uncollect uncollect)
        || !(uncollect.getInput() instanceof Project arrays)
        || !(arrays.getInput() instanceof Values values)
        || values.getTuples().size() != 1) {
      return null;
    }
    RelNode left = correlate.getLeft();
    RexBuilder rex = left.getCluster().getRexBuilder();
    List<RexNode> columns = columns(left);
    List<RexNode> all = new ArrayList<>(columns);
    OwnColumns own = new OwnColumns(correlate.getCorrelationId(), columns, List.of());
    arrays.getProjects().forEach(array -> all.add(array.accept(own)));
    RelNode below = project(left, all, names(left, arrays));
    RelNode elements = over(below, columns, uncollect, outer);
    List<RexNode> items = new ArrayList<>();
    for (int i = columns.size(); i < elements.getRowType().getFieldCount(); i++) {
      items.add(rex.makeInputRef(elements, i));
    }
    return above(correlate, correlate.getRight(), columns, items, elements);
  }

  private static List<String> names(RelNode left, Project arrays) {
    List<String> names = new ArrayList<>(left.getRowType().getFieldNames());
    for (RexNode array : arrays.getProjects()) {
      String name = array instanceof RexFieldAccess own ? own.getField().getName() : "array";
      names.add(names.contains(name) ? name + "$" + names.size() : name);
    }
    return names;
  }

  /** What stands above the elements, over the relation's own columns too. */
  private static RelNode above(
      Correlate correlate,
      RelNode right,
      List<RexNode> columns,
      List<RexNode> items,
      RelNode elements) {
    List<RelNode> steps = new ArrayList<>();
    for (RelNode r = right; !(r instanceof Uncollect); r = r.getInput(0)) {
      steps.add(0, r);
    }
    RelNode result = elements;
    List<RexNode> output = items;
    for (RelNode step : steps) {
      OwnColumns own = new OwnColumns(correlate.getCorrelationId(), columns, output);
      if (step instanceof Filter filter) {
        result = LogicalFilter.create(result, filter.getCondition().accept(own));
      } else {
        output = ((Project) step).getProjects().stream().map(e -> e.accept(own)).toList();
      }
    }
    List<RexNode> all = new ArrayList<>(columns);
    all.addAll(output);
    RelDataType type = correlate.getRowType();
    RexBuilder rex = correlate.getCluster().getRexBuilder();
    for (int i = 0; i < all.size(); i++) {
      RelDataType wanted = type.getFieldList().get(i).getType();
      if (!all.get(i).getType().equals(wanted)) {
        all.set(i, rex.makeAbstractCast(wanted, all.get(i), false));
      }
    }
    return project(result, all, type.getFieldNames());
  }

  private static RelNode over(
      RelNode below, List<RexNode> columns, Uncollect uncollect, boolean outer) {
    int kept = columns.size();
    boolean ordinality = uncollect.withOrdinality;
    var types = below.getCluster().getTypeFactory().builder();
    List<RelDataTypeField> fields = below.getRowType().getFieldList();
    fields.subList(0, kept).forEach(types::add);
    var factory = below.getCluster().getTypeFactory();
    for (RelDataTypeField field : fields.subList(kept, fields.size())) {
      RelDataType element = field.getType().getComponentType();
      if (element.isStruct()) {
        element
            .getFieldList()
            .forEach(
                f -> types.add(f.getName(), factory.createTypeWithNullability(f.getType(), true)));
      } else {
        types.add(field.getName(), factory.createTypeWithNullability(element, true));
      }
    }
    if (ordinality) {
      RelDataType number = factory.createSqlType(SqlTypeName.INTEGER);
      types.add("ORDINALITY", factory.createTypeWithNullability(number, outer));
    }
    return new Unnested(below, kept, ordinality, outer, types.uniquify().build());
  }

  private static RelNode project(RelNode below, List<RexNode> columns, List<String> names) {
    return LogicalProject.create(below, List.of(), columns, names, Set.of());
  }

  /** What is said of the correlated row said of the row's own columns. */
  private static final class OwnColumns extends RexShuttle {
    private final CorrelationId id;
    private final List<RexNode> columns;
    private final List<RexNode> items;

    OwnColumns(CorrelationId id, List<RexNode> columns, List<RexNode> items) {
      this.id = id;
      this.columns = columns;
      this.items = items;
    }

    @Override
    public RexNode visitInputRef(RexInputRef ref) {
      return items.get(ref.getIndex());
    }

    @Override
    public RexNode visitFieldAccess(RexFieldAccess access) {
      return access.getReferenceExpr() instanceof RexCorrelVariable variable
              && variable.id.equals(id)
          ? columns.get(access.getField().getIndex())
          : super.visitFieldAccess(access);
    }
  }
}
