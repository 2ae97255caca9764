package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.store.Versions;
import java.util.Arrays;
import java.util.List;

/**
 * A side whose rows only come: a log, and where in it each row is. No row is looked for by what it
 * is, so none is hashed. A row's number is how many came before it.
 */
final class LoggedSide extends JoinSide {
  private final LogRows log;
  private int[] addresses = new int[16];
  private int count;

  @SuppressWarnings("UnusedVariable")
  private long touched; // what was read only to have it near

  LoggedSide(RowLayout layout, List<Integer> columns, List<Boolean> nullMatches) {
    super(layout, columns, nullMatches);
    log = new LogRows(layout.schema(), null);
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
        int address = addresses[numbers[i]];
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
    int address = addresses[number];
    byte[] bytes = log.bytes(address);
    int row = log.offset(address);
    for (int c = 0; c < layout.columns(); c++) {
      out.copy(firstColumn + c, layout, bytes, row, c);
    }
  }

  @Override
  long met(int number) {
    throw new IllegalStateException("what rows meet is not counted here");
  }

  @Override
  long meet(int number, long more) {
    throw new IllegalStateException("what rows meet is not counted here");
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
    encodeOwn();
    for (long n = weight; n > 0; n--) {
      put(log.append(bytes, row, length));
    }
  }

  private void put(int address) {
    if (count == addresses.length) {
      addresses = Arrays.copyOf(addresses, count + (count >> 1));
    }
    addresses[count] = address;
    index.add(own, count++);
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
  void restored() {
    log.all(
        (bytes, at, address) -> {
          at(bytes, at);
          encodeOwn();
          put(address);
        });
  }

  @Override
  long heapBytes() {
    return super.heapBytes() + log.heapBytes() + 4L * addresses.length;
  }

  @Override
  long size() {
    return count;
  }
}
