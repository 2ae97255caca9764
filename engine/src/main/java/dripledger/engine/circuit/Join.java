package dripledger.engine.circuit;

import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.expr.RowProgram;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanNode.Join.Kind;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.store.HashIndex;
import dripledger.engine.store.Versions;
import java.util.function.Consumer;

/**
 * Joins of two inputs: d(L ⋈ R) = dL ⋈ R + (L + dL) ⋈ dR, the changes of either input against all
 * the other has put in so far.
 *
 * <p>Outer joins: a row of the outer side counts the rows of the other side it has met. It is there
 * with NULLs while that count is 0: d(l, NULL) = [met(l) = 0] after − [met(l) = 0] before. Weights
 * may be below zero in between: what is put out adds up all the same.
 *
 * <p>State: the rows of both inputs, see {@link JoinSide}. A row whose key is NULL meets nothing
 * and is not kept. A condition that fails on a pair rejects the pair.
 */
final class Join implements Operator {
  private static final int AHEAD = 128; // rows looked at together

  private final JoinSide[] sides;
  private final boolean[] counts; // whether a side's rows are told what they meet
  private final RowProgram condition; // or null
  private final Page pair; // what the condition is asked of
  private final int leftColumns;
  private final Page out;
  private final RowWriter blank; // what the condition's rows are written to
  private final Rejects rejects;
  private final int place;
  private final int tooLarge;
  private final RowWriter leftAlone; // the left row of a pair that is too large
  private final boolean once; // fed and flushed once: nothing is put out that is taken back
  private final Work work;
  private final Operator next;
  private final int port;

  /**
   * @param next who takes the changes, or null if they stay in {@link #output}
   */
  Join(PlanNode.Join plan, Versions versions, Rejects rejects, Work work, Operator next, int port) {
    this.work = work;
    Kind kind = plan.kind();
    once = versions.isOnce();
    this.rejects = rejects;
    this.next = next;
    this.port = port;
    RowLayout left = new RowLayout(plan.left().schema());
    RowLayout right = new RowLayout(plan.right().schema());
    leftColumns = left.columns();
    counts =
        new boolean[] {
          kind == Kind.LEFT || kind == Kind.FULL, kind == Kind.RIGHT || kind == Kind.FULL
        };
    sides =
        new JoinSide[] {
          JoinSide.of(
              left,
              plan.leftKeys(),
              plan.nullMatches(),
              counts[0],
              plan.left().appendOnly(),
              versions),
          JoinSide.of(
              right,
              plan.rightKeys(),
              plan.nullMatches(),
              counts[1],
              plan.right().appendOnly(),
              versions)
        };
    out = new Page(new RowLayout(plan.schema()));
    leftAlone = new RowWriter(left, 64);
    tooLarge = rejects.place(PlanPrinter.step(plan), left);
    if (plan.condition() == null) {
      condition = null;
      pair = null;
      blank = null;
      place = -1;
    } else {
      condition = ProgramCompiler.compile(plan.conditionProgram()).program();
      RowLayout both = new RowLayout(plan.pairSchema());
      pair = new Page(both, 1);
      blank = new RowWriter(new RowLayout(plan.conditionProgram().output()), 16);
      place = rejects.place(PlanPrinter.step(plan), both);
    }
  }

  @Override
  public void push(int fromPort, Page delta) {
    JoinSide own = sides[fromPort];
    JoinSide other = sides[1 - fromPort];
    for (int i = 0; i < delta.size(); i++) {
      if (i % AHEAD == 0) {
        own.ahead(delta, i, Math.min(AHEAD, delta.size() - i), other);
      }
      work.step();
      long weight = delta.weight(i);
      if (weight == 0) {
        continue;
      }
      byte[] bytes = delta.bytes();
      int row = delta.start(i);
      long met = 0;
      boolean canMatch = own.at(bytes, row);
      if (canMatch) {
        for (int b = own.firstOf(other, i % AHEAD); b != HashIndex.NONE; b = other.next(b)) {
          if (out.size() >= ColumnDelta.ROWS) {
            work.step();
            handOn();
          }
          if (condition == null || holds(fromPort, own, bytes, row, other, b, weight)) {
            met += other.weight(b);
            meets(fromPort, own, bytes, row, weight, other, b);
          }
        }
      }
      if (counts[fromPort] && met == 0 && !(canMatch && once)) {
        alone(fromPort, own, bytes, row, weight);
      }
      if (canMatch) {
        own.add(i % AHEAD, bytes, row, weight, met);
      }
      if (out.size() >= ColumnDelta.ROWS) {
        handOn();
      }
    }
    handOn();
  }

  /** A row of one side meets one of the other. */
  private void meets(
      int fromPort, JoinSide own, byte[] bytes, int row, long weight, JoinSide other, int block) {
    long times = other.weight(block);
    RowWriter writer = out.begin();
    both(writer, fromPort, own, bytes, row, other, block);
    try {
      out.commit(weight * times);
    } catch (RowWriter.RowTooLargeException e) {
      rejectTooLarge(fromPort, own, bytes, row, other, block, weight * times, e);
    }
    if (counts[1 - fromPort]) {
      long before = other.meet(block, weight);
      boolean was = before == 0;
      boolean is = before + weight == 0;
      if (was != is && !once) {
        alone(1 - fromPort, other, block, is ? times : -times);
      }
    }
  }

  private void alone(int side, JoinSide own, int block, long weight) {
    aloneFrom(out.begin(), side, w -> own.write(block, w, firstColumn(side)));
    out.commit(weight);
  }

  /** A pair is known by its left row if it is too large to be kept. */
  private void rejectTooLarge(
      int fromPort,
      JoinSide own,
      byte[] bytes,
      int row,
      JoinSide other,
      int block,
      long weight,
      RowWriter.RowTooLargeException e) {
    leftAlone.truncate(0);
    leftAlone.begin();
    if (fromPort == 0) {
      copy(leftAlone, own.layout(), bytes, row, 0);
    } else {
      other.write(block, leftAlone, 0);
    }
    leftAlone.finish();
    rejects.add(tooLarge, leftAlone.bytes(), 0, weight, e);
  }

  private int firstColumn(int side) {
    return side == 0 ? 0 : leftColumns;
  }

  private void both(
      RowWriter writer,
      int fromPort,
      JoinSide own,
      byte[] bytes,
      int row,
      JoinSide other,
      int block) {
    if (fromPort == 0) {
      copy(writer, own.layout(), bytes, row, 0);
      other.write(block, writer, leftColumns);
    } else {
      other.write(block, writer, 0);
      copy(writer, own.layout(), bytes, row, leftColumns);
    }
  }

  private static void copy(RowWriter writer, RowLayout layout, byte[] bytes, int row, int first) {
    for (int c = 0; c < layout.columns(); c++) {
      writer.copy(first + c, layout, bytes, row, c);
    }
  }

  /** Puts out a row by itself: with NULLs for the other side, unless that is not wanted. */
  private void alone(int side, JoinSide own, byte[] bytes, int row, long weight) {
    aloneFrom(out.begin(), side, w -> copy(w, own.layout(), bytes, row, firstColumn(side)));
    out.commit(weight);
  }

  private void aloneFrom(RowWriter writer, int side, Consumer<RowWriter> columns) {
    int all = out.layout().columns();
    if (side == 1) {
      setNulls(writer, 0, leftColumns);
    }
    columns.accept(writer);
    if (side == 0) {
      setNulls(writer, leftColumns, all);
    }
  }

  private static void setNulls(RowWriter writer, int from, int to) {
    for (int c = from; c < to; c++) {
      writer.setNull(c);
    }
  }

  private boolean holds(
      int fromPort, JoinSide own, byte[] bytes, int row, JoinSide other, int block, long weight) {
    pair.clear();
    both(pair.begin(), fromPort, own, bytes, row, other, block);
    blank.truncate(0);
    blank.begin();
    try {
      pair.commit(1);
      return condition.run(pair.bytes(), pair.start(0), blank);
    } catch (RowWriter.RowTooLargeException e) {
      long times = weight * other.weight(block);
      rejectTooLarge(fromPort, own, bytes, row, other, block, times, e);
      return false;
    } catch (RuntimeException e) {
      rejects.add(place, pair.bytes(), pair.start(0), weight * other.weight(block), e);
      return false;
    }
  }

  /** Where changes are gathered, if nobody takes them; the owner clears it. */
  Page output() {
    return out;
  }

  private void handOn() {
    if (next != null && !out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  @Override
  public void flush(Epoch epoch) {
    for (int side = 0; side < 2; side++) {
      if (once && counts[side]) {
        giveAlone(side, sides[side]);
      }
    }
  }

  /** Puts out all rows that are there by themselves, now that all is known. */
  private void giveAlone(int side, JoinSide own) {
    for (int block = 0; block < own.limit(); block++) {
      if (own.isThere(block) && own.met(block) == 0) {
        alone(side, own, block, own.weight(block));
        if (out.size() >= ColumnDelta.ROWS) {
          handOn();
        }
      }
    }
    handOn();
  }

  @Override
  public void durable(Consumer<Durable> into) {
    into.accept(sides[0].durable());
    into.accept(sides[1].durable());
  }

  @Override
  public void join(Versions graph) {
    sides[0].join(graph);
    sides[1].join(graph);
  }

  @Override
  public void close() {
    sides[0].close();
    sides[1].close();
  }

  @Override
  public void restored() {
    sides[0].restored();
    sides[1].restored();
  }

  @Override
  public long stateBytes() {
    return sides[0].heapBytes() + sides[1].heapBytes();
  }

  @Override
  public long stateKeys() {
    return sides[0].size() + sides[1].size();
  }
}
