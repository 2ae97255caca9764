package dripledger.server.wire;

import dripledger.engine.Engine;
import dripledger.engine.query.Subscription;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.io.IOException;
import java.util.ArrayDeque;
import java.util.ArrayList;
import java.util.Deque;
import java.util.List;
import java.util.Map;

/**
 * The rows of a query and every change to them, as rows that say how many came (or went, if it is
 * negative) and in which epoch. A fetch waits for a row.
 */
final class FollowPortal extends Portal {
  private static final long LOOK_MILLIS = 100;

  private final WireSession session;
  private final Subscription subscription;
  private final List<Field> fields = new ArrayList<>();
  private final Deque<Object[]> waiting = new ArrayDeque<>();
  private final Engine engine;
  private final Runnable recheck;
  private long access;
  private boolean ended;

  FollowPortal(Engine engine, String sql, Map<String, Object> arguments, WireSession session) {
    this.session = session;
    this.recheck = () -> engine.followed(sql, arguments, session.caller());
    access = engine.access().version();
    this.engine = engine;
    subscription = engine.follow(sql, arguments, session.caller());
    fields.add(Field.of(new Column("change", ColumnType.of(Kind.BIGINT).notNull())));
    fields.add(Field.of(new Column("epoch", ColumnType.of(Kind.BIGINT).notNull())));
    fields.addAll(Field.of(subscription.columns()));
  }

  @Override
  List<Field> fields() {
    return fields;
  }

  @Override
  long send(WireOutput out, Formats formats, long most) throws IOException {
    await();
    long sent = 0;
    for (; !waiting.isEmpty() && (most == 0 || sent < most); sent++) {
      Portals.row(out, fields, waiting.poll(), formats);
    }
    return sent;
  }

  /**
   * Waits for rows; takes one that waits.
   *
   * @return null if nothing more comes
   */
  Object[] next() {
    await();
    return waiting.poll();
  }

  /** Whether {@link #next} would not wait. */
  boolean hasNext() {
    return !waiting.isEmpty();
  }

  private void await() {
    try {
      while (waiting.isEmpty() && !ended) {
        session.goOn();
        long now = engine.access().version();
        if (now != access) { // what was granted may be gone
          recheck.run();
          access = now;
        }
        Subscription.Batch batch = subscription.poll(LOOK_MILLIS);
        if (batch != null) {
          add(batch);
        } else if (subscription.ended() != null) {
          ended = true;
          session.notice(subscription.ended());
        }
      }
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new WireError("57014", "the statement was cancelled", null);
    }
  }

  private void add(Subscription.Batch batch) {
    for (Subscription.Change change : batch.changes()) {
      Object[] row = new Object[change.row().length + 2];
      row[0] = change.weight();
      row[1] = batch.epoch();
      System.arraycopy(change.row(), 0, row, 2, change.row().length);
      waiting.add(row);
    }
  }

  @Override
  boolean hasEnded() {
    return ended && waiting.isEmpty();
  }

  @Override
  String tag(long rows) {
    return "SELECT " + rows;
  }

  @Override
  public void close() {
    subscription.close();
  }
}
