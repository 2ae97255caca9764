package dripledger.engine.circuit;

import dripledger.engine.expr.ProgramCompiler.CompiledProgram;
import dripledger.engine.expr.RowProgram;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowWriter;

/**
 * Filter and projection: d(f R) = f(dR). Without state; each change keeps its weight. A row the
 * program throws on is rejected, on its way out as on its way in, so what was put in is always what
 * is taken out.
 *
 * <p>What is made goes on in pieces that are still near; into an aggregate that can take them as
 * columns, if all of them are of fixed size.
 */
final class Transform implements Operator {
  private final RowProgram program;
  private final boolean identity;
  private final Page out;
  private final Rejects rejects;
  private final int place;
  private final Operator next;
  private final int port;
  private final GroupAggregate groups; // who takes columns, or null
  private final ColumnDelta columns;

  /**
   * @param next who takes the changes, or null if they stay in {@link #output}
   */
  Transform(CompiledProgram compiled, Rejects rejects, int place, Operator next, int port) {
    this.program = compiled.program();
    this.identity = compiled.identity();
    this.out = new Page(compiled.output());
    this.rejects = rejects;
    this.place = place;
    this.next = next;
    this.port = port;
    boolean columnar =
        compiled.columnar() && next instanceof GroupAggregate taker && taker.takesColumns();
    groups = columnar ? (GroupAggregate) next : null;
    columns = columnar ? new ColumnDelta(compiled.output().columns()) : null;
  }

  @Override
  public void push(int fromPort, Page delta) {
    if (identity) {
      if (next == null) {
        out.appendAll(delta);
      } else {
        next.push(port, delta);
      }
      return;
    }
    if (groups != null) {
      pushColumns(delta);
      return;
    }
    boolean marked = delta.isMarked();
    for (int i = 0; i < delta.size(); i++) {
      long weight = delta.weight(i);
      if (weight == 0) {
        continue;
      }
      if (next != null && out.size() == ColumnDelta.ROWS) {
        handOn();
      }
      RowWriter writer = out.begin();
      try {
        if (program.run(delta.bytes(), delta.start(i), writer)) {
          out.commit(weight);
          if (marked) {
            out.mark(out.size() - 1, delta.mark(i));
          }
        } else {
          out.abort();
        }
      } catch (RuntimeException e) {
        out.abort();
        rejects.add(place, delta.bytes(), delta.start(i), weight, e);
      }
    }
    if (next != null) {
      handOn();
    }
  }

  private void handOn() {
    if (!out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }

  /** Straight into the columns that the aggregate adds up, without rows in between. */
  private void pushColumns(Page delta) {
    byte[] bytes = delta.bytes();
    for (int i = 0; i < delta.size(); i++) {
      long weight = delta.weight(i);
      if (weight == 0) {
        continue;
      }
      int to = columns.size;
      columns.nulls[to] = 0;
      columns.weights[to] = weight;
      boolean passes = false;
      try {
        passes = program.columns(bytes, delta.start(i), columns.columns, columns.nulls, to);
      } catch (RuntimeException e) {
        rejects.add(place, bytes, delta.start(i), weight, e);
      }
      if (passes && ++columns.size == ColumnDelta.ROWS) {
        groups.push(columns);
        columns.size = 0;
      }
    }
    groups.push(columns);
    columns.size = 0;
  }

  /** Where changes are gathered, if nobody takes them; the owner clears it. */
  Page output() {
    return out;
  }
}
