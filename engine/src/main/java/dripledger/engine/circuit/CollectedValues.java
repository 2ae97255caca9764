package dripledger.engine.circuit;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.Collector;
import dripledger.engine.row.Column;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import dripledger.engine.state.Blobs;
import dripledger.engine.store.Versions;
import java.util.ArrayList;
import java.util.List;

/**
 * Calls whose answer is made of all values of a group in an order: STRING_AGG and its kin, MODE,
 * PERCENTILE_*, BIT_*. It is made anew for each group that an epoch has changed.
 *
 * <p>The result is 1 and the place of a row of one column; 0 if it is NULL; 2 if there is none, for
 * the reason that the second word gives.
 */
final class CollectedValues extends GroupValues {
  private static final int CHUNK = 256;
  private static final Collector.Outcome[] OUTCOMES = Collector.Outcome.values();

  private final AggregateCall call;
  private final Blobs blobs;
  private final RowLayout one;
  private final RowWriter result;
  private final Collector collector;
  private final int[] chunk = new int[CHUNK];

  CollectedValues(
      AggregateCall call, RowLayout input, int[] groups, Blobs blobs, Versions versions) {
    super(input, groups, columns(call), order(call), versions);
    this.call = call;
    this.blobs = blobs;
    Column output = call.output();
    one = new RowLayout(new Schema(List.of(new Column(output.name(), output.type()))));
    result = new RowWriter(one, 256);
    List<Integer> columns = columns(call);
    int[] arguments =
        call.arguments().stream().mapToInt(a -> groupColumns + columns.indexOf(a)).toArray();
    int first = call.order().isEmpty() ? -1 : columns.indexOf(call.order().get(0).column());
    collector = new Collector(call, keys.layout(), arguments, groupColumns + first);
  }

  private static List<Integer> columns(AggregateCall call) {
    List<Integer> columns = new ArrayList<>();
    call.order().forEach(key -> columns.add(key.column()));
    call.arguments().forEach(columns::add);
    return columns.stream().distinct().toList();
  }

  private static List<SortKey> order(AggregateCall call) {
    return call.order().isEmpty()
        ? List.of(new SortKey(call.arguments().get(0), false, false))
        : call.order();
  }

  @Override
  boolean canFail() {
    return true;
  }

  @Override
  boolean skips(byte[] bytes, int row) {
    return switch (call.function()) {
      case ARRAY_AGG, JSON_AGG, JSON_OBJECT_AGG -> false;
      case PERCENTILE_CONT, PERCENTILE_DISC ->
          input.isNull(bytes, row, call.order().get(0).column());
      default -> input.isNull(bytes, row, call.arguments().get(0));
    };
  }

  @Override
  void result(long[] state, int at) {
    release(state, at);
    long run = run(state, at);
    int size = runs.size(run);
    if (size == 0) {
      return;
    }
    collector.begin(total(run, size));
    for (int from = 0; from < size; ) {
      int read = runs.read(run, from, chunk, 0, CHUNK);
      for (int i = 0; i < read; i++) {
        byte[] row = keys.row(store.page(chunk[i]), store.header(chunk[i]) + 1);
        collector.add(row, call.distinct() ? 1 : count(chunk[i]));
      }
      from += read;
    }
    result.truncate(0);
    result.begin();
    Collector.Outcome outcome = collector.end(result);
    if (outcome == Collector.Outcome.NULL) {
      return;
    }
    int length = 0;
    if (outcome == Collector.Outcome.VALUE) {
      try {
        length = result.finish();
      } catch (RowWriter.RowTooLargeException e) {
        outcome = Collector.Outcome.TOO_LARGE;
      }
    }
    if (outcome == Collector.Outcome.VALUE) {
      state[at] = 1;
      state[at + 1] = blobs.put(result.bytes(), result.start(), length);
    } else {
      state[at] = 2;
      state[at + 1] = outcome.ordinal();
    }
  }

  private long count(int block) {
    return store.page(block)[store.state(block)];
  }

  private long total(long run, int size) {
    if (call.distinct() || !collector.needsTotal()) {
      return size;
    }
    long total = 0;
    for (int from = 0; from < size; ) {
      int read = runs.read(run, from, chunk, 0, CHUNK);
      for (int i = 0; i < read; i++) {
        total += count(chunk[i]);
      }
      from += read;
    }
    return total;
  }

  private void release(long[] state, int at) {
    if (state[at] == 1) {
      blobs.retire(state[at + 1]);
    }
    state[at] = 0;
    state[at + 1] = 0;
  }

  @Override
  void end(long[] state, int at) {
    super.end(state, at);
    release(state, at);
  }

  @Override
  void write(long[] state, int at, RowWriter out, int column) {
    if (state[at] == 0) {
      out.setNull(column);
    } else if (state[at] == 2) {
      throw OUTCOMES[(int) state[at + 1]].failure();
    } else {
      out.copy(column, one, blobs.bytes(state[at + 1]), blobs.start(state[at + 1]), 0);
    }
  }
}
