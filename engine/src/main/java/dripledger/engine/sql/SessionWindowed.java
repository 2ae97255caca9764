package dripledger.engine.sql;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Operation;
import dripledger.engine.plan.InTime;
import dripledger.engine.plan.JoinKind;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.TimeNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.Collections;
import java.util.List;
import org.apache.calcite.plan.RelTraitSet;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.RelWriter;
import org.apache.calcite.rel.SingleRel;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.util.ImmutableBitSet;
import org.apache.calcite.util.mapping.Mapping;
import org.apache.calcite.util.mapping.MappingType;
import org.apache.calcite.util.mapping.Mappings;

/**
 * A relation's rows with the beginning of their session and, unless nobody asks for it, its end;
 * see {@link TimeNode.Sessions}. The end is that of its last row, which the rows are joined with.
 */
final class SessionWindowed extends SingleRel {
  final List<Integer> partition;
  final int time;
  final long gap;
  private final boolean withEnd;

  SessionWindowed(
      RelNode input,
      List<Integer> partition,
      int time,
      long gap,
      boolean withEnd,
      RelDataType type) {
    super(input.getCluster(), input.getTraitSet(), input);
    this.partition = List.copyOf(partition);
    this.time = time;
    this.gap = gap;
    this.withEnd = withEnd;
    this.rowType = type;
  }

  /** Where the beginning of a session is; its end is behind it. */
  int start() {
    return getInput().getRowType().getFieldCount();
  }

  boolean withEnd() {
    return withEnd;
  }

  /** The same without the end. */
  SessionWindowed withoutEnd() {
    RelDataTypeFactory.Builder type = getCluster().getTypeFactory().builder();
    type.addAll(rowType.getFieldList().subList(0, start() + 1));
    return new SessionWindowed(getInput(), partition, time, gap, false, type.build());
  }

  /** The plan of it over that of its input. */
  PlanNode plan(PlanNode over) {
    Schema schema = TypeMapping.schema(rowType);
    List<Column> columns = new ArrayList<>(over.schema().columns());
    columns.add(schema.column(start()));
    long delay = InTime.delay(over, time);
    PlanNode sessions =
        new TimeNode.Sessions(
            InTime.sessions(over, time, gap),
            partition,
            time,
            gap,
            delay,
            -1,
            false,
            new Schema(columns));
    return withEnd ? withEnds(sessions, schema) : sessions;
  }

  private PlanNode withEnds(PlanNode sessions, Schema schema) {
    List<Integer> by = new ArrayList<>(partition);
    by.add(start());
    List<Column> columns = new ArrayList<>();
    by.forEach(c -> columns.add(sessions.schema().column(c)));
    ColumnType moment = schema.type(start());
    Column last = new Column("last", moment.withNullable(false));
    columns.add(last);
    AggregateCall max =
        new AggregateCall(AggregateCall.Function.MAX, List.of(time), false, -1, last);
    PlanNode ends = new PlanNode.Aggregate(sessions, by, List.of(max), new Schema(columns));
    List<Integer> keys = new ArrayList<>();
    for (int i = 0; i < by.size(); i++) {
      keys.add(i);
    }
    List<Column> both = new ArrayList<>(sessions.schema().columns());
    both.addAll(columns);
    PlanNode joined =
        new PlanNode.Join(
            sessions,
            ends,
            JoinKind.INNER,
            by,
            keys,
            Collections.nCopies(by.size(), true),
            null,
            new Schema(both));
    List<Expr> outputs = new ArrayList<>(Expr.columns(sessions.schema()));
    outputs.add(
        new Expr.Call(
            Operation.PLUS,
            List.of(
                new Expr.Column(both.size() - 1, last.type()),
                new Expr.Constant(gap, ColumnType.of(Kind.INTERVAL_DAY_TIME).notNull())),
            List.of(),
            schema.type(start() + 1)));
    return PlanBuilder.transform(joined, null, outputs, schema);
  }

  @Override
  public RelNode copy(RelTraitSet traits, List<RelNode> inputs) {
    return new SessionWindowed(inputs.get(0), partition, time, gap, withEnd, rowType);
  }

  @Override
  public RelWriter explainTerms(RelWriter writer) {
    return super.explainTerms(writer)
        .item("partition", partition)
        .item("time", time)
        .item("gap", gap)
        .item("withEnd", withEnd);
  }

  /** The same without columns that nobody reads. */
  RelNode trimmed(RelNode input, Mapping where) {
    RelDataTypeFactory.Builder type = getCluster().getTypeFactory().builder();
    type.addAll(input.getRowType().getFieldList());
    List<RelDataTypeField> own = rowType.getFieldList();
    type.addAll(own.subList(start(), own.size()));
    return new SessionWindowed(
        input,
        partition.stream().map(where::getTarget).toList(),
        where.getTarget(time),
        gap,
        withEnd,
        type.build());
  }

  /** From the columns it has to those it has when some of the input's are left out. */
  Mapping mapping(Mapping where) {
    return beside(where, start(), rowType.getFieldCount() - start());
  }

  /** From columns and some of one's own behind them to those that are left and these. */
  static Mapping beside(Mapping where, int width, int own) {
    Mapping mapping =
        Mappings.create(MappingType.INVERSE_SURJECTION, width + own, where.getTargetCount() + own);
    for (int i = 0; i < width; i++) {
      int target = where.getTargetOpt(i);
      if (target >= 0) {
        mapping.set(i, target);
      }
    }
    for (int i = 0; i < own; i++) {
      mapping.set(width + i, where.getTargetCount() + i);
    }
    return mapping;
  }

  /** The input's columns that are needed. */
  ImmutableBitSet needed(ImmutableBitSet used) {
    return used.intersect(ImmutableBitSet.range(start()))
        .union(ImmutableBitSet.of(partition))
        .set(time);
  }
}
