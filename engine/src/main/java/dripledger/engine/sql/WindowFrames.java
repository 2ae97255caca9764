package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.Frame;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.SortKey;
import dripledger.grammar.GroupsFrame;
import java.math.BigDecimal;
import java.util.List;
import org.apache.calcite.rex.RexFieldCollation;
import org.apache.calcite.rex.RexLiteral;
import org.apache.calcite.rex.RexOver;
import org.apache.calcite.rex.RexWindow;
import org.apache.calcite.rex.RexWindowBound;

/** The frame of a window function as it was written. Stateless. */
final class WindowFrames {
  private static final Frame.Bound FIRST = new Frame.Bound(Frame.Place.UNBOUNDED_PRECEDING, 0, 0);

  private static final Frame.Bound LAST = new Frame.Bound(Frame.Place.UNBOUNDED_FOLLOWING, 0, 0);

  /** All rows before one. */
  static final Frame BEFORE =
      new Frame(
          Frame.Unit.ROWS,
          FIRST,
          new Frame.Bound(Frame.Place.PRECEDING, 1, 0),
          Frame.Exclusion.NONE);

  /** All rows behind one. */
  static final Frame BEHIND =
      new Frame(
          Frame.Unit.ROWS,
          new Frame.Bound(Frame.Place.FOLLOWING, 1, 0),
          LAST,
          Frame.Exclusion.NONE);

  private static final BigDecimal GROUPS = BigDecimal.valueOf(GroupsFrame.MARK);

  private WindowFrames() {}

  static Frame of(RexOver over) {
    RexWindow window = over.getWindow();
    boolean groups =
        window.isRows()
            && (isOfGroups(window.getLowerBound()) || isOfGroups(window.getUpperBound()));
    Frame.Unit unit =
        groups ? Frame.Unit.GROUPS : window.isRows() ? Frame.Unit.ROWS : Frame.Unit.RANGE;
    Frame.Exclusion exclusion =
        switch (window.getExclude()) {
          case EXCLUDE_CURRENT_ROW -> Frame.Exclusion.CURRENT_ROW;
          case EXCLUDE_GROUP -> Frame.Exclusion.GROUP;
          case EXCLUDE_TIES -> Frame.Exclusion.TIES;
          default -> Frame.Exclusion.NONE;
        };
    return new Frame(
        unit, bound(window.getLowerBound(), over), bound(window.getUpperBound(), over), exclusion);
  }

  private static boolean isOfGroups(RexWindowBound bound) {
    return bound.getOffset() instanceof RexLiteral literal
        && literal.getValue() instanceof BigDecimal number
        && number.compareTo(GROUPS) >= 0;
  }

  private static Frame.Bound bound(RexWindowBound bound, RexOver over) {
    boolean preceding = bound.isPreceding();
    if (bound.isCurrentRow()) {
      return new Frame.Bound(Frame.Place.CURRENT, 0, 0);
    }
    if (bound.isUnbounded()) {
      return preceding ? FIRST : LAST;
    }
    Frame.Place place = preceding ? Frame.Place.PRECEDING : Frame.Place.FOLLOWING;
    if (!(bound.getOffset() instanceof RexLiteral literal)
        || !(literal.getValue() instanceof BigDecimal number)) {
      throw PlanBuilder.unsupported("an offset of a frame that is not constant");
    }
    if (number.signum() < 0) {
      throw new EngineException(Code.INVALID, "an offset of a frame must not be negative");
    }
    if (isOfGroups(bound) && over.getWindow().isRows()) {
      long groups = number.subtract(GROUPS).longValue();
      return new Frame.Bound(groups == 0 ? Frame.Place.CURRENT : place, groups, 0);
    }
    if (over.getWindow().isRows()) {
      return new Frame.Bound(place, number.longValue(), 0);
    }
    List<RexFieldCollation> keys = over.getWindow().orderKeys;
    ColumnType type = TypeMapping.fromSql(keys.get(0).left.getType());
    ColumnType offset = TypeMapping.fromSql(literal.getType());
    if (offset.kind() == ColumnType.Kind.INTERVAL_YEAR_MONTH || type.isVariable()) {
      throw PlanBuilder.unsupported("this offset of a frame by RANGE");
    }
    return switch (type.kind()) {
      case REAL, DOUBLE -> new Frame.Bound(place, 0, number.doubleValue());
      case DECIMAL ->
          new Frame.Bound(
              place, number.movePointRight(type.scale()).toBigInteger().longValueExact(), 0);
      case TIMESTAMP, TIME -> new Frame.Bound(place, number.longValueExact() * 1000, 0);
      case DATE -> new Frame.Bound(place, number.longValueExact() / 86_400_000, 0);
      default -> new Frame.Bound(place, number.longValue(), 0);
    };
  }

  /**
   * The frame, if it goes with an order.
   *
   * @throws EngineException if it does not
   */
  static Frame checked(Frame frame, List<SortKey> order) {
    boolean offsets = isOffset(frame.from()) || isOffset(frame.to());
    if (frame.unit() == Frame.Unit.RANGE && offsets && order.size() != 1) {
      throw new EngineException(
          Code.INVALID, "RANGE with an offset needs ORDER BY with one expression");
    }
    if (frame.unit() == Frame.Unit.GROUPS && order.isEmpty()) {
      throw new EngineException(Code.INVALID, "GROUPS needs ORDER BY");
    }
    return frame;
  }

  private static boolean isOffset(Frame.Bound bound) {
    return bound.place() == Frame.Place.PRECEDING || bound.place() == Frame.Place.FOLLOWING;
  }
}
