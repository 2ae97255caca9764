package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.plan.InTime;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.TimeNode.TimeWindows.Rows;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.List;
import java.util.Set;
import org.apache.calcite.plan.RelTraitSet;
import org.apache.calcite.rel.RelHomogeneousShuttle;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.RelWriter;
import org.apache.calcite.rel.SingleRel;
import org.apache.calcite.rel.core.TableFunctionScan;
import org.apache.calcite.rel.logical.LogicalProject;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.sql.SqlIntervalQualifier;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.util.ImmutableBitSet;
import org.apache.calcite.util.TimestampString;
import org.apache.calcite.util.mapping.Mapping;

/**
 * A relation's rows that come in time for windows of event time: what the library has as a table
 * function. Rows that are in one window only are as they were; which window that is stands in a
 * projection above, so that it is computed with everything else. Otherwise the window's begin and
 * end are the last two columns.
 */
final class TimeWindowed extends SingleRel {
  /** Windows that a row may be in. */
  private static final long MAX_WINDOWS = 10_000;

  private final int time;
  private final long size;
  private final long slide;
  private final boolean grows;
  private final long offset;
  private final Rows rows;

  private TimeWindowed(
      RelNode input,
      int time,
      long size,
      long slide,
      boolean grows,
      long offset,
      RelDataType type) {
    this(input, time, size, slide, grows, offset, Rows.ALL, type);
  }

  private TimeWindowed(
      RelNode input,
      int time,
      long size,
      long slide,
      boolean grows,
      long offset,
      Rows rows,
      RelDataType type) {
    super(input.getCluster(), input.getTraitSet(), input);
    this.time = time;
    this.size = size;
    this.slide = slide;
    this.grows = grows;
    this.offset = offset;
    this.rows = rows;
    this.rowType = type;
  }

  /** The plan of it over that of its input. */
  PlanNode plan(PlanNode over) {
    if (rows == Rows.FOR_SLICES) {
      return InTime.slices(over, time, slide, offset, size - slide);
    }
    return size == slide
        ? InTime.windows(over, time, size, offset)
        : InTime.over(over, time, size, slide, grows, offset, rows, TypeMapping.schema(rowType));
  }

  @Override
  public RelNode copy(RelTraitSet traits, List<RelNode> inputs) {
    return new TimeWindowed(inputs.get(0), time, size, slide, grows, offset, rows, rowType);
  }

  @Override
  public RelWriter explainTerms(RelWriter writer) {
    return super.explainTerms(writer)
        .item("time", time)
        .item("size", size)
        .item("slide", slide)
        .item("grows", grows)
        .item("offset", offset)
        .item("rows", rows);
  }

  /** How many windows a row is in, of which each begins with the last slice of another; or 0. */
  long panes() {
    return rows != Rows.ALL || grows || size % slide != 0 ? 0 : size / slide;
  }

  /** The column of the time. */
  int time() {
    return time;
  }

  /** The rows that are in time for all of their windows, as the slices are made of. */
  TimeWindowed slices() {
    RelNode input = getInput();
    return new TimeWindowed(
        input, time, size, slide, false, offset, Rows.FOR_SLICES, input.getRowType());
  }

  /** When the slice begins that a row of {@link #slices} is in. */
  RexNode sliceStart() {
    List<RexNode> all = outputs(this, time, slide, offset);
    return all.get(all.size() - 2);
  }

  /** When a window ends that begins then. */
  RexNode end(RexNode start) {
    RexBuilder rex = getCluster().getRexBuilder();
    return rex.makeCall(
        start.getType(), SqlStdOperatorTable.DATETIME_PLUS, List.of(start, interval(rex, size)));
  }

  /** Other rows in the same windows. */
  TimeWindowed over(RelNode input, int column, Rows which) {
    RelDataTypeFactory.Builder type = getCluster().getTypeFactory().builder();
    type.addAll(input.getRowType().getFieldList());
    List<RelDataTypeField> own = rowType.getFieldList();
    type.addAll(own.subList(own.size() - 2, own.size()));
    return new TimeWindowed(
        input, column, size, slide, false, offset, which, type.uniquify().build());
  }

  static boolean isIn(RelNode rel) {
    return rel instanceof TimeWindowed
        || rel instanceof SessionWindowed
        || rel.getInputs().stream().anyMatch(TimeWindowed::isIn);
  }

  /** A query in which windows are in this form. */
  static RelNode in(RelNode rel) {
    return rel.accept(
        new RelHomogeneousShuttle() {
          @Override
          public RelNode visit(RelNode other) {
            RelNode own = super.visit(other);
            return own instanceof TableFunctionScan scan ? of(scan) : own;
          }
        });
  }

  private static RelNode of(TableFunctionScan scan) {
    RexCall call = (RexCall) scan.getCall();
    String name = call.getOperator().getName();
    List<RexNode> operands = call.getOperands();
    boolean grows = name.equals("GROW");
    boolean hops = grows || name.equals("HOP");
    RelNode input = scan.getInput(0);
    int column = columns(operands.get(0)).get(0);
    if (name.equals("SESSION")) {
      return sessions(scan, column, operands.subList(1, operands.size()));
    }
    long slide = micros(operands.get(1), name);
    long size = hops ? micros(operands.get(2), name) : slide;
    int last = hops ? 3 : 2;
    long offset = operands.size() > last ? micros(operands.get(last), name) : 0;
    refuse(name, size, slide);
    if (grows && size % slide != 0) {
      throw new EngineException(
          Code.INVALID,
          "the windows of GROW do not reach their full size: it is no multiple of the step",
          "GROW (TABLE t, DESCRIPTOR (at), INTERVAL '10' MINUTE, INTERVAL '1' DAY)");
    }
    RelDataType type = input.getRowType();
    if (size != slide) {
      return new TimeWindowed(input, column, size, slide, grows, offset, withWindow(scan, type));
    }
    RelNode rows = new TimeWindowed(input, column, size, slide, false, offset, type);
    return LogicalProject.create(
        rows,
        List.of(),
        outputs(rows, column, size, offset),
        withWindow(scan, type).getFieldNames(),
        Set.of());
  }

  private static RelNode sessions(TableFunctionScan scan, int time, List<RexNode> operands) {
    List<Integer> partition = operands.size() > 1 ? columns(operands.get(0)) : List.of();
    long gap = micros(operands.get(operands.size() - 1), "SESSION");
    refuse("SESSION", gap, gap);
    RelNode input = scan.getInput(0);
    return new SessionWindowed(
        input, partition, time, gap, true, withWindow(scan, input.getRowType()));
  }

  /** The columns that a DESCRIPTOR names. */
  private static List<Integer> columns(RexNode descriptor) {
    return ((RexCall) descriptor)
        .getOperands().stream().map(ref -> ((RexInputRef) ref).getIndex()).toList();
  }

  private static void refuse(String name, long size, long slide) {
    if (size <= 0 || slide <= 0) {
      throw new EngineException(
          Code.INVALID, "a window of " + name + " is longer than nothing", "INTERVAL '5' MINUTE");
    }
    if (slide > size) {
      throw new EngineException(
          Code.INVALID,
          "the windows of " + name + " leave gaps: each begins after the one before has ended",
          "HOP (TABLE t, DESCRIPTOR (at), slide, size): the slide is the shorter one");
    }
    if (size / slide > MAX_WINDOWS) {
      throw new EngineException(
          Code.LIMIT,
          "a row would be in " + size / slide + " windows; the limit is " + MAX_WINDOWS,
          "take a longer slide");
    }
  }

  private static long micros(RexNode node, String name) {
    if (node instanceof RexLiteral literal
        && SqlTypeName.DAY_INTERVAL_TYPES.contains(literal.getType().getSqlTypeName())) {
      return literal
          .getValueAs(BigDecimal.class)
          .multiply(BigDecimal.valueOf(1000))
          .longValueExact();
    }
    throw new EngineException(
        Code.INVALID,
        name + " takes constant intervals of days or less",
        "for example INTERVAL '5' MINUTE");
  }

  /** The input's columns, then those of the window, under the names that the library gave them. */
  private static RelDataType withWindow(TableFunctionScan scan, RelDataType input) {
    RelDataTypeFactory factory = scan.getCluster().getTypeFactory();
    RelDataTypeFactory.Builder type = factory.builder();
    type.addAll(input.getFieldList());
    List<RelDataTypeField> all = scan.getRowType().getFieldList();
    for (RelDataTypeField field : all.subList(all.size() - 2, all.size())) {
      type.add(field.getName(), factory.createSqlType(SqlTypeName.TIMESTAMP, 6));
    }
    return type.build();
  }

  private static List<RexNode> outputs(RelNode rows, int column, long size, long offset) {
    RexBuilder rex = rows.getCluster().getRexBuilder();
    RelDataTypeFactory factory = rex.getTypeFactory();
    RelDataType timestamp = factory.createSqlType(SqlTypeName.TIMESTAMP, 6);
    List<RexNode> outputs = new ArrayList<>();
    for (int i = 0; i < rows.getRowType().getFieldCount(); i++) {
      outputs.add(rex.makeInputRef(rows, i));
    }
    RexNode at = outputs.get(column);
    RexNode present = at.getType().isNullable() ? rex.makeAbstractCast(timestamp, at, false) : at;
    RexNode span = interval(rex, size);
    TimestampString origin =
        TimestampString.fromMillisSinceEpoch(Math.floorDiv(offset, 1_000_000L) * 1000)
            .withNanos((int) Math.floorMod(offset, 1_000_000L) * 1000);
    RexNode start =
        rex.makeCall(
            timestamp,
            OwnFunctions.DATE_BIN,
            List.of(span, present, rex.makeTimestampLiteral(origin, 6)));
    outputs.add(start);
    outputs.add(rex.makeCall(timestamp, SqlStdOperatorTable.DATETIME_PLUS, List.of(start, span)));
    return outputs;
  }

  static RexNode interval(RexBuilder rex, long micros) {
    SqlIntervalQualifier seconds =
        new SqlIntervalQualifier(
            org.apache.calcite.avatica.util.TimeUnit.SECOND,
            10,
            null,
            6,
            org.apache.calcite.sql.parser.SqlParserPos.ZERO);
    return rex.makeIntervalLiteral(BigDecimal.valueOf(micros, 3), seconds);
  }

  /** The same without columns that nobody reads. */
  RelNode trimmed(RelNode input, Mapping where) {
    RelDataTypeFactory.Builder type = getCluster().getTypeFactory().builder();
    type.addAll(input.getRowType().getFieldList());
    if (size != slide) {
      List<RelDataTypeField> own = rowType.getFieldList();
      type.addAll(own.subList(own.size() - 2, own.size()));
    }
    return new TimeWindowed(input, where.getTarget(time), size, slide, grows, offset, type.build());
  }

  /** From the columns it has to those it has when some of the input's are left out. */
  Mapping mapping(Mapping where) {
    int width = getInput().getRowType().getFieldCount();
    return SessionWindowed.beside(where, width, rowType.getFieldCount() - width);
  }

  /** The input's columns that are needed. */
  ImmutableBitSet needed(ImmutableBitSet used) {
    int width = getInput().getRowType().getFieldCount();
    return used.intersect(ImmutableBitSet.range(width)).set(time);
  }
}
