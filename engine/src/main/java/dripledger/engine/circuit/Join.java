package dripledger.engine.circuit;

import dripledger.engine.circuit.JoinSide.Input;
import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.expr.RowProgram;
import dripledger.engine.plan.Ending;
import dripledger.engine.plan.JoinKind;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Durable;
import dripledger.engine.store.JoinIndex;
import dripledger.engine.store.JoinIndex.Rows;
import dripledger.engine.store.Versions;
import java.util.List;
import java.util.function.Consumer;

/**
 * Joins of two inputs: d(L ⋈ R) = dL ⋈ R + (L + dL) ⋈ dR, the changes of either input against all
 * the other has put in so far.
 *
 * <p>Outer joins: a row of the outer side counts the rows of the other side it has met. It is there
 * with NULLs while that count is 0: d(l, NULL) = [met(l) = 0] after − [met(l) = 0] before. Weights
 * may be below zero in between: what is put out adds up all the same.
 *
 * <p>A row that changes and is joined as before, −l then +l′, meets the same rows: they are looked
 * for once, and none of them is told.
 *
 * <p>Semi-joins put left rows out by themselves while that count is not 0, anti-joins while it is,
 * and neither puts out pairs.
 *
 * <p>A row that can meet no more of the other input, because the watermark has passed the last time
 * at which one might come, is kept no longer: see {@link PlanNode.Join#ending}.
 *
 * <p>State: the rows of both inputs, see {@link JoinSide}; those that are kept by a key are looked
 * up where they are, see {@link TableSide} and {@link IndexedSide}. A row whose key is NULL meets
 * nothing and is not kept. A condition that fails on a pair rejects the pair.
 */
final class Join implements Operator {
  private final JoinSide[] sides;
  private final ElsewhereSide[] elsewhere = new ElsewhereSide[2]; // those whose rows are looked up
  private final JoinSide.Shared shared;
  private final boolean[] counts; // whether a side's rows are told what they meet
  private final boolean pairs; // whether they are put out
  private final boolean metAlone; // whether rows are put out alone that have met any, and no others
  private final RowProgram condition; // or null
  private final Page pair; // what the condition is asked of
  private final JoinOutput out;
  private final RowWriter blank; // what the condition's rows are written to
  private final Rejects rejects;
  private final int place;
  private final int tooLarge;
  private final RowWriter leftAlone; // the left row of a pair that is too large
  private final boolean once; // fed and flushed once: nothing is put out that is taken back
  private final boolean keeps; // whether rows may meet more later
  private final Work work;

  /**
   * @param table the input whose rows are looked up where they are, or −1
   * @param both whether those of the other are, too
   * @param next who takes the changes, or null if they stay in {@link #output}
   */
  Join(
      PlanNode.Join plan,
      int table,
      boolean both,
      Versions versions,
      Rejects rejects,
      Work work,
      Operator next,
      int port) {
    this.work = work;
    this.rejects = rejects;
    JoinKind kind = plan.kind();
    once = versions.isOnce();
    counts =
        new boolean[] {
          kind == JoinKind.LEFT || kind == JoinKind.FULL || !kind.pairs(),
          kind == JoinKind.RIGHT || kind == JoinKind.FULL
        };
    pairs = kind.pairs();
    metAlone = kind == JoinKind.SEMI;
    RowLayout left = new RowLayout(plan.left().schema());
    RowLayout right = new RowLayout(plan.right().schema());
    keeps = !once || table < 0;
    List<Integer> leftKeys = plan.leftKeys();
    List<Integer> rightKeys = plan.rightKeys();
    boolean byKey = table >= 0 && plan.byKey();
    if (byKey && table == 0) {
      rightKeys = inOrder(rightKeys, leftKeys, plan.left().key());
      leftKeys = plan.left().key();
    } else if (byKey) {
      leftKeys = inOrder(leftKeys, rightKeys, plan.right().key());
      rightKeys = plan.right().key();
    }
    List<List<Integer>> keys = List.of(leftKeys, rightKeys);
    boolean[] byOwnKey = new boolean[2];
    Rows[] kinds = new Rows[2];
    for (int side = 0; side < 2; side++) {
      PlanNode input = plan.inputs().get(side);
      byOwnKey[side] = byKey && keys.get(side).equals(input.key());
      kinds[side] =
          side != table && !both
              ? rows(input, keys.get(side), plan.ending(side))
              : byOwnKey[side] ? Rows.ELSEWHERE : Rows.GO;
    }
    shared = new JoinSide.Shared(left, leftKeys, plan.nullMatches(), kinds);
    sides = new JoinSide[2];
    for (int side = 0; side < 2; side++) {
      PlanNode input = plan.inputs().get(side);
      RowLayout layout = side == 0 ? left : right;
      Input of = new Input(side, layout, keys.get(side), plan.nullMatches(), shared);
      if (side == table || both) {
        boolean before = side != table;
        elsewhere[side] =
            byOwnKey[side] ? new TableSide(of, input, before) : new IndexedSide(of, input, before);
        sides[side] = elsewhere[side];
      } else {
        sides[side] = side(of, input, counts[side], plan.ending(side), versions);
      }
    }
    out = new JoinOutput(new RowLayout(plan.schema()), pairs, sides, next, port);
    leftAlone = new RowWriter(left, 64);
    tooLarge = rejects.place(PlanPrinter.step(plan), left);
    if (plan.condition() == null) {
      condition = null;
      pair = null;
      blank = null;
      place = -1;
    } else {
      condition = ProgramCompiler.compile(plan.conditionProgram()).program();
      RowLayout ofBoth = new RowLayout(plan.pairSchema());
      pair = new Page(ofBoth, 1);
      blank = new RowWriter(new RowLayout(plan.conditionProgram().output()), 16);
      place = rejects.place(PlanPrinter.step(plan), ofBoth);
    }
  }

  /** Columns of one input in the order that those of the other have in its key. */
  private static List<Integer> inOrder(List<Integer> columns, List<Integer> of, List<Integer> key) {
    return key.stream().map(k -> columns.get(of.indexOf(k))).toList();
  }

  /** A side whose rows are looked up where they are, or null. */
  ElsewhereSide elsewhere(int side) {
    return elsewhere[side];
  }

  private Rows rows(PlanNode input, List<Integer> on, Ending ending) {
    if (isKeyed(input) && on.containsAll(input.key()) && input.key().containsAll(on)) {
      return Rows.ONE;
    }
    return input.appendOnly() && (once || ending == null) ? Rows.STAY : Rows.GO;
  }

  private static boolean isKeyed(PlanNode input) {
    return input.key() != null && input.key().size() < input.schema().size();
  }

  /** The lightest form in which a side's rows can be kept: counted, equal rows are one. */
  private JoinSide side(
      Input input, PlanNode plan, boolean counted, Ending ending, Versions versions) {
    if (ending != null && !once) {
      return new CountedSide(input, counted, ending, versions);
    }
    if (once ? isKeyed(plan) : plan.appendOnly() && !counted) {
      return new LoggedSide(input, counted);
    }
    if (!isKeyed(plan)) {
      return new CountedSide(input, counted, null, versions);
    }
    boolean oneAKey = rows(plan, input.columns(), null) == Rows.ONE;
    return new KeyedSide(input, plan.key(), oneAKey, counted, versions);
  }

  @Override
  public void push(int fromPort, Page delta) {
    JoinSide own = sides[fromPort];
    JoinSide other = sides[1 - fromPort];
    if (elsewhere[1 - fromPort] != null) {
      elsewhere[1 - fromPort].ready();
    }
    for (int from = 0; from < delta.size(); from += JoinSide.AHEAD) {
      int count = Math.min(JoinSide.AHEAD, delta.size() - from);
      own.ahead(delta, from, count);
      other.aheadOf(own);
      byte[] bytes = delta.bytes();
      for (int i = 0; i < count; i++) {
        work.step();
        long weight = delta.weight(from + i);
        int row = delta.start(from + i);
        if (weight == -1
            && condition == null
            && i + 1 < count
            && delta.weight(from + i + 1) == 1
            && own.isUpdate(i, bytes, row, delta.start(from + i + 1))) {
          int newRow = delta.start(from + i + 1);
          int length = own.layout.length(bytes, row);
          if (length != own.layout.length(bytes, newRow)
              || !Bytes.equal(bytes, row, bytes, newRow, length)) { // not only in other columns
            update(fromPort, i, bytes, row, newRow);
          }
          i++;
        } else if (weight != 0) {
          change(fromPort, i, bytes, row, weight);
        }
        makeRoom();
      }
    }
    out.handOn();
  }

  private void makeRoom() {
    if (out.isFull()) {
      work.step();
      out.handOn();
    }
  }

  /** A row comes or goes. */
  private void change(int side, int i, byte[] bytes, int row, long weight) {
    JoinSide own = sides[side];
    JoinSide other = sides[1 - side];
    long met = 0;
    if (own.canMatch(i)) {
      for (int b = other.first(own, i, bytes, row); b != JoinIndex.NONE; b = other.next(b)) {
        makeRoom();
        if (condition == null || holds(side, bytes, row, b, weight)) {
          met += other.weight(b);
          meets(side, bytes, row, weight, b);
        }
      }
    }
    if (isAlone(side, met) && !(own.canMatch(i) && once && keeps)) {
      makeRoom();
      out.alone(side, bytes, row, weight);
    }
    if (own.canMatch(i) && keeps) {
      own.add(i, bytes, row, weight, met);
    }
  }

  /** Whether a row that has met so many is put out by itself. */
  private boolean isAlone(int side, long met) {
    return counts[side] && met == 0 != metAlone;
  }

  /** A row changes and is joined as before; there is no condition. */
  private void update(int side, int i, byte[] bytes, int row, int newRow) {
    JoinSide own = sides[side];
    JoinSide other = sides[1 - side];
    long met = 0;
    for (int b = other.first(own, i, bytes, row); b != JoinIndex.NONE; b = other.next(b)) {
      long times = other.weight(b);
      met += times;
      makeRoom();
      pair(side, bytes, row, b, -times);
      makeRoom();
      pair(side, bytes, newRow, b, times);
    }
    if (isAlone(side, met)) {
      makeRoom();
      out.alone(side, bytes, row, -1);
      makeRoom();
      out.alone(side, bytes, newRow, 1);
    }
    own.replace(i, bytes, row, newRow, met);
  }

  /**
   * A row of one side meets one of the other, which ceases to be alone before, or becomes so after
   * it: no key is there twice.
   */
  private void meets(int side, byte[] bytes, int row, long weight, int block) {
    JoinSide other = sides[1 - side];
    long times = other.weight(block);
    boolean was = false;
    boolean is = false;
    if (counts[1 - side]) {
      long before = other.meet(block, weight);
      was = isAlone(1 - side, before) && !once;
      is = isAlone(1 - side, before + weight) && !once;
    }
    if (was && !is) {
      out.alone(1 - side, block, -times);
      makeRoom();
    }
    pair(side, bytes, row, block, weight * times);
    if (is && !was) {
      makeRoom();
      out.alone(1 - side, block, times);
    }
  }

  private void pair(int side, byte[] bytes, int row, int block, long weight) {
    if (!pairs) {
      return;
    }
    try {
      out.pair(side, bytes, row, block, weight);
    } catch (RowWriter.RowTooLargeException e) {
      rejectTooLarge(side, bytes, row, block, weight, e);
    }
  }

  /** A pair is known by its left row if it is too large to be kept. */
  private void rejectTooLarge(
      int side, byte[] bytes, int row, int block, long weight, RowWriter.RowTooLargeException e) {
    leftAlone.truncate(0);
    leftAlone.begin();
    if (side == 0) {
      leftAlone.copyAll(0, sides[0].layout, bytes, row);
    } else {
      sides[0].write(block, leftAlone, 0);
    }
    leftAlone.finish();
    rejects.add(tooLarge, leftAlone.bytes(), 0, weight, e);
  }

  private boolean holds(int side, byte[] bytes, int row, int block, long weight) {
    long times = weight * sides[1 - side].weight(block);
    pair.clear();
    out.write(side, bytes, row, block, pair.begin());
    blank.truncate(0);
    blank.begin();
    try {
      pair.commit(1);
      return condition.run(pair.bytes(), pair.start(0), blank);
    } catch (RowWriter.RowTooLargeException e) {
      rejectTooLarge(side, bytes, row, block, times, e);
      return false;
    } catch (RuntimeException e) {
      rejects.add(place, pair.bytes(), pair.start(0), times, e);
      return false;
    }
  }

  /** Where changes are gathered, if nobody takes them; the owner clears it. */
  Page output() {
    return out.rows();
  }

  @Override
  public void flush(Epoch epoch) {
    for (int side = 0; side < 2; side++) {
      sides[side].settle();
      if (once && keeps && counts[side]) {
        giveAlone(side, sides[side]);
      }
      sides[side].endUpTo(epoch.watermarkMicros());
    }
  }

  /** Puts out all rows that are there by themselves, now that all is known. */
  private void giveAlone(int side, JoinSide own) {
    for (int block = 0; block < own.limit(); block++) {
      if (own.isThere(block) && isAlone(side, own.met(block))) {
        makeRoom();
        out.alone(side, block, own.weight(block));
      }
    }
    out.handOn();
  }

  @Override
  public void durable(Consumer<Durable> into) {
    for (JoinSide side : sides) {
      if (side.durable() != null) {
        into.accept(side.durable());
      }
    }
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
  public void restored(long watermark) {
    sides[0].restored(watermark);
    sides[1].restored(watermark);
  }

  @Override
  public long stateBytes() {
    return sides[0].heapBytes() + sides[1].heapBytes() + shared.heapBytes();
  }

  @Override
  public long stateKeys() {
    return sides[0].size() + sides[1].size();
  }
}
