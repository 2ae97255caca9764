package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.store.IntList;
import dripledger.engine.store.Versions;
import java.util.Arrays;

/**
 * A side whose rows only come: a log, and where in it each row is. No row is looked for by what it
 * is, so none is hashed. A row's number is how many came before it.
 */
final class LoggedSide extends JoinSide {
  private final LogRows log;
  private final IntList addresses = new IntList();
  private long[] met; // or null
  private int count;

  @SuppressWarnings("UnusedVariable")
  private long touched; // what was read only to have it near

  /**
   * @param counts whether rows are to know how many they have met, which no checkpoint saves
   */
  LoggedSide(Input input, boolean counts) {
    super(input);
    log = new LogRows(layout.schema(), null);
    met = counts ? new long[16] : null;
  }

  @Override
  void rowsAhead(Page delta, int from, int more) {
    // they are not looked for
  }

  @Override
  void lookAhead(int[] numbers, int more) {
    long seen = 0;
    for (int i = 0; i < more; i++) {
      if (numbers[i] >= 0) {
        int address = addresses.get(numbers[i]);
        seen += log.bytes(address)[log.offset(address)];
      }
    }
    touched = seen;
  }

  @Override
  long weight(int number) {
    return 1;
  }

  @Override
  void write(int number, RowWriter out, int firstColumn) {
    int address = addresses.get(number);
    byte[] bytes = log.bytes(address);
    int row = log.offset(address);
    for (int c = 0; c < layout.columns(); c++) {
      out.copy(firstColumn + c, layout, bytes, row, c);
    }
  }

  @Override
  void columns(int number, int[] which, ColumnDelta into, int at, int firstColumn) {
    int address = addresses.get(number);
    columns(log.bytes(address), log.offset(address), which, into, at, firstColumn);
  }

  @Override
  long met(int number) {
    return met[number];
  }

  @Override
  long meet(int number, long more) {
    long before = met[number];
    met[number] = before + more;
    return before;
  }

  @Override
  boolean isThere(int number) {
    return true;
  }

  @Override
  int limit() {
    return count;
  }

  @Override
  void add(int i, byte[] bytes, int row, long weight, long matches) {
    if (weight < 0) {
      throw new IllegalStateException("a row was taken out of what only grows");
    }
    int length = layout.length(bytes, row);
    for (long n = weight; n > 0; n--) {
      put(i, bytes, row, number(log.append(bytes, row, length), matches));
    }
  }

  private int number(int address, long matches) {
    addresses.grow(count);
    addresses.set(count, address);
    if (met != null) {
      if (count == met.length) {
        met = Arrays.copyOf(met, count * 2);
      }
      met[count] = matches;
    }
    return count++;
  }

  @Override
  boolean canReplace(int i, byte[] bytes, int row, int newRow) {
    return false;
  }

  @Override
  void replace(int i, byte[] bytes, int row, int newRow, long matches) {
    throw new IllegalStateException("a row was taken out of what only grows");
  }

  @Override
  void join(Versions graph) {
    log.join(graph);
  }

  @Override
  void close() {
    log.leave();
  }

  @Override
  Durable durable() {
    return log.durable();
  }

  @Override
  void restored(long watermark) {
    log.all((bytes, at, address) -> putRestored(bytes, at, number(address, 0)));
  }

  @Override
  long heapBytes() {
    return log.heapBytes() + addresses.heapBytes() + (met == null ? 0 : 8L * met.length);
  }

  @Override
  long size() {
    return count;
  }
}
