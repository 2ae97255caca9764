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
  /** Of fewer windows a row, slices are not worth it if each is put out once. */
  private static final int FEWEST_SETTLED = 3;

  /** The same if a slice is taken out of its windows and put in again whenever it changes. */
  private static final int FEWEST_PROVISIONAL = 10;

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

  static RelNode in(RelNode rel, QueryShape.Kept kept) {
    int fewest = kept == QueryShape.Kept.SETTLED ? FEWEST_SETTLED : FEWEST_PROVISIONAL;
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            RelNode own = super.visit(other);
            return own instanceof Aggregate a ? of(a, fewest) : own;
          }
        });
  }

  private static RelNode of(Aggregate a, int fewest) {
    RelNode below = a.getInput();
    RelNode rows = below instanceof Project p ? p.getInput() : below;
    if (a.getGroupType() != Aggregate.Group.SIMPLE
        || !(rows instanceof TimeWindowed windows)
        || windows.panes() < fewest
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
            && (call.getType().getSqlTypeName() == SqlTypeName.BIGINT || isWide(call));
    List<Integer> read = new ArrayList<>(call.getArgList());
    if (call.filterArg >= 0) {
      read.add(call.filterArg);
    }
    return (counts || sums)
        && !call.isDistinct()
        && call.getCollation().getFieldCollations().isEmpty()
        && read.stream().noneMatch(column -> readsWindow(inputs.get(column)));
  }

  /**
   * Whether the sum of a slice may not fit a word: then there are two, of how many times 2^32 is in
   * each value and of what is left of it.
   */
  private boolean isWide(AggregateCall call) {
    return call.getAggregation().getKind() == SqlKind.SUM
        && inputs.get(call.getArgList().get(0)).getType().getSqlTypeName() == SqlTypeName.BIGINT;
  }

  private List<RexNode> halves(RexNode value) {
    RexNode most = rex.makeExactLiteral(BigDecimal.valueOf(1L << 32), bigint);
    return List.of(
        rex.makeCall(value.getType(), SqlStdOperatorTable.DIVIDE, List.of(value, most)),
        rex.makeCall(value.getType(), SqlStdOperatorTable.MOD, List.of(value, most)));
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
    int part = own.size() + 2;
    for (AggregateCall call : a.getAggCallList()) {
      if (isWide(call)) {
        sums.add(sum(part++, -1, both, null));
        sums.add(sum(part++, -1, both, null));
      } else {
        sums.add(sum(part++, -1, both, call.getName()));
      }
    }
    RelNode grouped = LogicalAggregate.create(both, List.of(), groups, null, sums);
    return outputs(grouped, own, starts);
  }

  private AggregateCall sum(int column, int filter, RelNode rows, String name) {
    RelDataType type = rows.getRowType().getFieldList().get(column).getType();
    return AggregateCall.create(
        PARTS,
        false,
        false,
        false,
        List.of(),
        List.of(column),
        filter,
        null,
        RelCollations.EMPTY,
        filter < 0 ? type : rex.getTypeFactory().createTypeWithNullability(type, true),
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
    List<Integer> wide = new ArrayList<>(); // where the halves of a call are, or −1
    for (AggregateCall call : a.getAggCallList()) {
      wide.add(isWide(call) ? rows.size() : -1);
      if (isWide(call)) {
        rows.addAll(halves(inputs.get(call.getArgList().get(0))));
        names.addAll(List.of("high", "low"));
      }
    }
    RelNode project = LogicalProject.create(slice, List.of(), rows, unique(names), Set.of());
    ImmutableBitSet.Builder groups = ImmutableBitSet.builder().set(0);
    own.forEach(column -> groups.set(place(column)));
    List<AggregateCall> calls = new ArrayList<>();
    for (int i = 0; i < wide.size(); i++) {
      AggregateCall call = a.getAggCallList().get(i);
      int filter = call.filterArg < 0 ? -1 : place(call.filterArg);
      if (wide.get(i) >= 0) {
        calls.add(sum(wide.get(i), filter, project, null));
        calls.add(sum(wide.get(i) + 1, filter, project, null));
        continue;
      }
      calls.add(
          AggregateCall.create(
              call.getAggregation(),
              false,
              false,
              false,
              List.of(),
              call.getArgList().stream().map(this::place).toList(),
              filter,
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
      outputs.addAll(partial(call));
    }
    return LogicalProject.create(rows, List.of(), outputs, names(own), Set.of());
  }

  /** What a call answers of one row. */
  private List<RexNode> partial(AggregateCall call) {
    List<RexNode> conditions = new ArrayList<>();
    if (call.filterArg >= 0) {
      conditions.add(rex.makeCall(SqlStdOperatorTable.IS_TRUE, inputs.get(call.filterArg)));
    }
    List<RexNode> values;
    RexNode none;
    if (call.getAggregation().getKind() == SqlKind.COUNT) {
      for (int argument : call.getArgList()) {
        if (inputs.get(argument).getType().isNullable()) {
          conditions.add(rex.makeCall(SqlStdOperatorTable.IS_NOT_NULL, inputs.get(argument)));
        }
      }
      values = List.of(rex.makeExactLiteral(BigDecimal.ONE, bigint));
      none = rex.makeExactLiteral(BigDecimal.ZERO, bigint);
    } else {
      RexNode value = inputs.get(call.getArgList().get(0));
      RelDataType type =
          rex.getTypeFactory()
              .createTypeWithNullability(
                  bigint, call.getType().isNullable() || !conditions.isEmpty());
      none = rex.makeNullLiteral(type);
      values = isWide(call) ? halves(value) : List.of(rex.ensureType(type, value, true));
    }
    List<RexNode> parts = new ArrayList<>();
    for (RexNode value : values) {
      RexNode held = value;
      for (RexNode condition : conditions) {
        held = rex.makeCall(SqlStdOperatorTable.CASE, condition, held, none);
      }
      parts.add(held);
    }
    return parts;
  }

  private List<String> names(List<Integer> own) {
    List<String> names = new ArrayList<>();
    own.forEach(column -> names.add(a.getInput().getRowType().getFieldNames().get(column)));
    names.add("window_start");
    names.add("window_end");
    for (AggregateCall call : a.getAggCallList()) {
      names.add("part");
      if (isWide(call)) {
        names.add("part");
      }
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
    int part = own.size() + 1;
    for (AggregateCall call : a.getAggCallList()) {
      RexNode sum = rex.makeInputRef(grouped, part++);
      if (isWide(call)) {
        RexNode most = rex.makeExactLiteral(BigDecimal.valueOf(1L << 32), call.getType());
        RexNode high = rex.makeAbstractCast(call.getType(), sum, false);
        RexNode low = rex.makeInputRef(grouped, part++);
        sum =
            rex.makeCall(
                call.getType(),
                SqlStdOperatorTable.PLUS,
                List.of(
                    rex.makeCall(call.getType(), SqlStdOperatorTable.MULTIPLY, List.of(high, most)),
                    rex.makeAbstractCast(call.getType(), low, false)));
      }
      outputs.add(sum);
    }
    for (int i = 0; i < outputs.size(); i++) {
      RelDataType type = a.getRowType().getFieldList().get(i).getType();
      outputs.set(i, rex.ensureType(type, outputs.get(i), true));
    }
    return LogicalProject.create(
        grouped, List.of(), outputs, a.getRowType().getFieldNames(), Set.of());
  }
}
