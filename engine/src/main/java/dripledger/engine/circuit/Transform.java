package dripledger.engine.circuit;

import dripledger.engine.expr.ProgramCompiler.CompiledProgram;
import dripledger.engine.expr.RowProgram;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowWriter;

/**
 * Filter and projection: d(f R) = f(dR). Without state; each change keeps its weight. A row the
 * program throws on is rejected, on its way out as on its way in, so what was put in is always what
 * is taken out.
 */
final class Transform implements Operator {
  private final RowProgram program;
  private final boolean identity;
  private final Page out;
  private final Rejects rejects;
  private final int place;
  private final Operator next;
  private final int port;

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
    if (next != null) {
      out.clear();
    }
    for (int i = 0; i < delta.size(); i++) {
      long weight = delta.weight(i);
      if (weight == 0) {
        continue;
      }
      RowWriter writer = out.begin();
      try {
        if (program.run(delta.bytes(), delta.start(i), writer)) {
          out.commit(weight);
        } else {
          out.abort();
        }
      } catch (RuntimeException e) {
        out.abort();
        rejects.add(place, delta.bytes(), delta.start(i), weight, e);
      }
    }
    if (next != null && !out.isEmpty()) {
      next.push(port, out);
    }
  }

  /** Where changes are gathered, if nobody takes them; the owner clears it. */
  Page output() {
    return out;
  }
}
