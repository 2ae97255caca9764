package dripledger.engine.sql;

import dripledger.engine.plan.TimeNode.TimeWindows.Rows;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.rel.RelCollations;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Aggregate;
import org.apache.calcite.rel.core.AggregateCall;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.core.TableScan;
import org.apache.calcite.rel.logical.LogicalAggregate;
import org.apache.calcite.rel.logical.LogicalProject;
import org.apache.calcite.rel.logical.LogicalUnion;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.sql.SqlAggFunction;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.fun.SqlBasicAggFunction;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.type.OperandTypes;
import org.apache.calcite.sql.type.ReturnTypes;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.util.ImmutableBitSet;

/**
 * Counts and sums over overlapping windows, by slices: rows are first put together by the slice of
 * time between the beginnings of two windows, which is then in each of the windows that its rows
 * are in. A row costs one change and a slice as many as there are windows, however many rows it
 * has. (Li, Maier, Tufte, Papadimos, Tucker: No Pane, No Gain, SIGMOD Record 34 (1), 2005.)
 *
 * <p>A row that comes too late for the first of its windows is in no slice: it goes to each of the
 * others by itself. Stateless.
 */
final class SlicedWindows {
  /** Of fewer windows a row, slices are not worth it. */
  private static final int FEWEST = 3;

  /** The sum of sums and counts, of their own type. */
  private static final SqlAggFunction PARTS =
      SqlBasicAggFunction.create(
          "SUM", SqlKind.SUM, ReturnTypes.ARG0_NULLABLE_IF_EMPTY, OperandTypes.NUMERIC);

  private final Aggregate a;
  private final TimeWindowed windows;
  private final List<RexNode> inputs; // what is grouped, over the windows
  private final RexBuilder rex;
  private final int width; // columns of the windows' input
  private final RelDataType bigint;

  private SlicedWindows(Aggregate a, TimeWindowed windows, List<RexNode> inputs) {
    this.a = a;
    this.windows = windows;
    this.inputs = inputs;
    rex = a.getCluster().getRexBuilder();
    width = windows.getInput().getRowType().getFieldCount();
    bigint = rex.getTypeFactory().createSqlType(SqlTypeName.BIGINT);
  }

  static RelNode in(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            RelNode own = super.visit(other);
            return own instanceof Aggregate a ? of(a) : own;
          }
        });
  }

  private static RelNode of(Aggregate a) {
    RelNode below = a.getInput();
    RelNode rows = below instanceof Project p ? p.getInput() : below;
    if (a.getGroupType() != Aggregate.Group.SIMPLE
        || !(rows instanceof TimeWindowed windows)
        || windows.panes() < FEWEST
        || !isOfOneStream(windows.getInput())
        || below instanceof Project q && q.containsOver()) {
      return a;
    }
    List<RexNode> inputs = new ArrayList<>();
    for (int i = 0; i < below.getRowType().getFieldCount(); i++) {
      RexBuilder rex = a.getCluster().getRexBuilder();
      inputs.add(below instanceof Project p ? p.getProjects().get(i) : rex.makeInputRef(below, i));
    }
    SlicedWindows sliced = new SlicedWindows(a, windows, inputs);
    return sliced.fits() ? sliced.rel() : a;
  }

  /** Only there it is known of each row how late it came. */
  private static boolean isOfOneStream(RelNode rel) {
    return rel instanceof TableScan
        || (rel instanceof Filter || rel instanceof Project) && isOfOneStream(rel.getInput(0));
  }

  private boolean fits() {
    boolean byWindow = false;
    for (int group : a.getGroupSet()) {
      byWindow |= isWindow(inputs.get(group));
      if (!isWindow(inputs.get(group)) && readsWindow(inputs.get(group))) {
        return false;
      }
    }
    return byWindow && a.getAggCallList().stream().allMatch(this::fits);
  }

  private boolean fits(AggregateCall call) {
    boolean counts = call.getAggregation().getKind() == SqlKind.COUNT;
    boolean sums =
        call.getAggregation().getKind() == SqlKind.SUM
            && call.getType().getSqlTypeName() == SqlTypeName.BIGINT;
    List<Integer> read = new ArrayList<>(call.getArgList());
    if (call.filterArg >= 0) {
      read.add(call.filterArg);
    }
    return (counts || sums)
        && !call.isDistinct()
        && call.getCollation().getFieldCollations().isEmpty()
        && read.stream().noneMatch(column -> readsWindow(inputs.get(column)));
  }

  private boolean isWindow(RexNode node) {
    return node instanceof RexInputRef ref && ref.getIndex() >= width;
  }

  private boolean readsWindow(RexNode node) {
    return RelOptUtil.InputFinder.bits(node).length() > width;
  }

  private RelNode rel() {
    List<Integer> own = new ArrayList<>(); // group columns that are none of the window
    boolean starts = false;
    for (int group : a.getGroupSet()) {
      if (isWindow(inputs.get(group))) {
        starts |= ((RexInputRef) inputs.get(group)).getIndex() == width;
      } else {
        own.add(group);
      }
    }
    RelNode whole = slices(own);
    RelNode late = late(own);
    RelNode both = LogicalUnion.create(List.of(whole, late), true);
    // By the beginning of windows if that is asked for, since the end follows from it.
    int window = own.size() + (starts ? 0 : 1);
    ImmutableBitSet groups = ImmutableBitSet.range(own.size()).set(window);
    List<AggregateCall> sums = new ArrayList<>();
    int first = own.size() + 2;
    for (int i = 0; i < a.getAggCallList().size(); i++) {
      AggregateCall call = a.getAggCallList().get(i);
      sums.add(sum(first + i, call.getType(), call.getName()));
    }
    RelNode grouped = LogicalAggregate.create(both, List.of(), groups, null, sums);
    return outputs(grouped, own, starts);
  }

  private AggregateCall sum(int column, RelDataType type, String name) {
    return AggregateCall.create(
        PARTS,
        false,
        false,
        false,
        List.of(),
        List.of(column),
        -1,
        null,
        RelCollations.EMPTY,
        type,
        name);
  }

  /** Group columns, window_start, window_end, and a partial result for each call. */
  private RelNode slices(List<Integer> own) {
    TimeWindowed slice = windows.slices();
    List<RexNode> rows = new ArrayList<>();
    List<String> names = new ArrayList<>();
    rows.add(slice.sliceStart());
    names.add("slice");
    for (int i = 0; i < inputs.size(); i++) {
      if (!isWindow(inputs.get(i))) {
        rows.add(inputs.get(i));
        names.add(a.getInput().getRowType().getFieldNames().get(i));
      }
    }
    RelNode project = LogicalProject.create(slice, List.of(), rows, unique(names), Set.of());
    ImmutableBitSet.Builder groups = ImmutableBitSet.builder().set(0);
    own.forEach(column -> groups.set(place(column)));
    List<AggregateCall> calls = new ArrayList<>();
    for (AggregateCall call : a.getAggCallList()) {
      calls.add(
          AggregateCall.create(
              call.getAggregation(),
              false,
              false,
              false,
              List.of(),
              call.getArgList().stream().map(this::place).toList(),
              call.filterArg < 0 ? -1 : place(call.filterArg),
              null,
              RelCollations.EMPTY,
              call.getType(),
              null));
    }
    RelNode parts = LogicalAggregate.create(project, List.of(), groups.build(), null, calls);
    RelNode panes = windows.over(parts, 0, Rows.OF_SLICES);
    int last = panes.getRowType().getFieldCount();
    List<RexNode> outputs = new ArrayList<>();
    for (int i = 0; i < own.size(); i++) {
      outputs.add(rex.makeInputRef(panes, 1 + i));
    }
    outputs.add(rex.makeInputRef(panes, last - 2));
    outputs.add(rex.makeInputRef(panes, last - 1));
    for (int i = 0; i < calls.size(); i++) {
      outputs.add(rex.makeInputRef(panes, 1 + own.size() + i));
    }
    return LogicalProject.create(panes, List.of(), outputs, names(own), Set.of());
  }

  /** Where a column of what is grouped is among those of a row of a slice. */
  private int place(int column) {
    int place = 1;
    for (int i = 0; i < column; i++) {
      place += isWindow(inputs.get(i)) ? 0 : 1;
    }
    return place;
  }

  /** The same of rows that are in no slice, each by itself. */
  private RelNode late(List<Integer> own) {
    RelNode rows = windows.over(windows.getInput(), windows.time(), Rows.PARTLY_LATE);
    List<RexNode> outputs = new ArrayList<>();
    own.forEach(column -> outputs.add(inputs.get(column)));
    outputs.add(rex.makeInputRef(rows, width));
    outputs.add(rex.makeInputRef(rows, width + 1));
    for (AggregateCall call : a.getAggCallList()) {
      outputs.add(partial(call));
    }
    return LogicalProject.create(rows, List.of(), outputs, names(own), Set.of());
  }

  /** What a call answers of one row. */
  private RexNode partial(AggregateCall call) {
    List<RexNode> conditions = new ArrayList<>();
    if (call.filterArg >= 0) {
      conditions.add(rex.makeCall(SqlStdOperatorTable.IS_TRUE, inputs.get(call.filterArg)));
    }
    RexNode value;
    RexNode none;
    if (call.getAggregation().getKind() == SqlKind.COUNT) {
      for (int argument : call.getArgList()) {
        if (inputs.get(argument).getType().isNullable()) {
          conditions.add(rex.makeCall(SqlStdOperatorTable.IS_NOT_NULL, inputs.get(argument)));
        }
      }
      value = rex.makeExactLiteral(BigDecimal.ONE, bigint);
      none = rex.makeExactLiteral(BigDecimal.ZERO, bigint);
    } else {
      value = rex.ensureType(call.getType(), inputs.get(call.getArgList().get(0)), true);
      none = rex.makeNullLiteral(call.getType());
    }
    RexNode held = value;
    for (RexNode condition : conditions) {
      held = rex.makeCall(SqlStdOperatorTable.CASE, condition, held, none);
    }
    return rex.ensureType(call.getType(), held, true);
  }

  private List<String> names(List<Integer> own) {
    List<String> names = new ArrayList<>();
    own.forEach(column -> names.add(a.getInput().getRowType().getFieldNames().get(column)));
    names.add("window_start");
    names.add("window_end");
    for (int i = 0; i < a.getAggCallList().size(); i++) {
      names.add("part" + i);
    }
    return unique(names);
  }

  private static List<String> unique(List<String> names) {
    return org.apache.calcite.sql.validate.SqlValidatorUtil.uniquify(names, true);
  }

  /** The columns of the aggregate as they were. */
  private RelNode outputs(RelNode grouped, List<Integer> own, boolean starts) {
    List<RexNode> outputs = new ArrayList<>();
    int window = own.size();
    for (int group : a.getGroupSet()) {
      if (!isWindow(inputs.get(group))) {
        outputs.add(rex.makeInputRef(grouped, own.indexOf(group)));
      } else if (starts && ((RexInputRef) inputs.get(group)).getIndex() > width) {
        outputs.add(windows.end(rex.makeInputRef(grouped, window)));
      } else {
        outputs.add(rex.makeInputRef(grouped, window));
      }
    }
    for (int i = 0; i < a.getAggCallList().size(); i++) {
      outputs.add(rex.makeInputRef(grouped, own.size() + 1 + i));
    }
    for (int i = 0; i < outputs.size(); i++) {
      RelDataType type = a.getRowType().getFieldList().get(i).getType();
      outputs.set(i, rex.ensureType(type, outputs.get(i), true));
    }
    return LogicalProject.create(
        grouped, List.of(), outputs, a.getRowType().getFieldNames(), Set.of());
  }
}
