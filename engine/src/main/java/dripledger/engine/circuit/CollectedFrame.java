package dripledger.engine.circuit;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Collector;
import dripledger.engine.expr.Frame.Exclusion;
import dripledger.engine.expr.WindowCall;
import dripledger.engine.row.Column;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import java.util.List;

/**
 * What is made of all values of a frame, in the order of its rows: a text, an array, JSON. It is
 * made anew for each row, as long as the frame is, which is what it takes to write it.
 */
final class CollectedFrame extends WindowFunction {
  private final OrderedRows rows;
  private final FrameCursor frame;
  private final AggregateCall call;
  private final boolean takesNulls;
  private final boolean excludes;
  private final Collector collector;
  private final RowLayout one;
  private final RowWriter result;

  CollectedFrame(WindowCall window, OrderedRows rows, FrameCursor frame) {
    this.rows = rows;
    this.frame = frame;
    call = window.aggregate();
    takesNulls =
        switch (call.function()) {
          case ARRAY_AGG, JSON_AGG, JSON_OBJECT_AGG -> true;
          default -> false;
        };
    excludes = window.frame().exclusion() != Exclusion.NONE;
    int[] arguments = call.arguments().stream().mapToInt(Integer::intValue).toArray();
    collector = new Collector(call, rows.layout, arguments, -1);
    Column output = call.output();
    one = new RowLayout(new Schema(List.of(new Column(output.name(), output.type()))));
    result = new RowWriter(one, 256);
  }

  @Override
  void begin(PartitionViews.View of, Object saved) {
    super.begin(of, saved);
    frame.begin(of, 0);
  }

  @Override
  void write(int rank, RowWriter out, int column) {
    frame.at(rank);
    collector.begin(0);
    boolean any = false;
    for (int i = frame.from; i < frame.to; i++) {
      int block = view.block(i);
      boolean taken = takesNulls || !rows.isNull(block, call.arguments().get(0));
      if (taken && !(excludes && frame.isExcluded(i))) {
        rows.row(block); // it begins with the first byte
        collector.add(rows.rowBytes(), 1);
        any = true;
      }
    }
    if (!any) {
      out.setNull(column);
      return;
    }
    result.truncate(0);
    result.begin();
    Collector.Outcome outcome = collector.end(result);
    if (outcome.failure() != null) {
      throw outcome.failure();
    }
    if (outcome == Collector.Outcome.NULL) {
      out.setNull(column);
      return;
    }
    result.finish();
    out.copy(column, one, result.bytes(), result.start(), 0);
  }

  @Override
  boolean agrees(WindowFunction other, int rank) {
    return false; // what is in one frame is in those behind it too
  }
}
