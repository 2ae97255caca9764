package dripledger.engine.circuit;

import dripledger.engine.expr.Accumulator;
import dripledger.engine.expr.Accumulators;
import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.expr.RowProgram;
import dripledger.engine.pattern.Binding;
import dripledger.engine.pattern.PatternItem;
import dripledger.engine.plan.Matches;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.state.Blobs;
import dripledger.engine.store.Versions;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;
import java.util.List;

/**
 * What is computed of a match, whose rows are places in a partition that is shown to this first.
 * One thread.
 */
final class PatternRows {
  private final OrderedRows rows;
  private final byte[][] names; // of variables
  private int[] blocks = new int[0];
  private int size;
  private long number;

  PatternRows(OrderedRows rows, List<Matches.Variable> variables) {
    this.rows = rows;
    names =
        variables.stream()
            .map(v -> v.name().getBytes(StandardCharsets.UTF_8))
            .toArray(byte[][]::new);
  }

  /** Shows the rows of a partition, in order. */
  void show(int[] partition, int count) {
    blocks = partition;
    size = count;
  }

  /** Says how many matches the partition has had, with the one that is made. */
  void number(long matches) {
    number = matches;
  }

  /** The computation of a plan over these rows. */
  Computed of(Matches.Made made) {
    return new Computed(made);
  }

  /** Computes one thing; see {@link Matches.Made}. */
  final class Computed {
    private final List<PatternItem> items;
    private final RowProgram program;
    private final RowWriter row;
    private final Totals[] totals;
    private final long[] of; // the variables of each item that is a value, one a bit

    private Computed(Matches.Made made) {
      items = made.items();
      ProgramCompiler.CompiledProgram compiled = ProgramCompiler.compile(made.program());
      program = compiled.program();
      row = new RowWriter(compiled.input(), 256);
      totals = new Totals[items.size()];
      of = new long[items.size()];
      for (int i = 0; i < totals.length; i++) {
        totals[i] = items.get(i) instanceof PatternItem.Total t ? new Totals(t, rows.layout) : null;
        of[i] = items.get(i) instanceof PatternItem.Value v ? bits(v.of()) : 0;
      }
    }

    /**
     * Computes it.
     *
     * @param running the last of the rows that a RUNNING item is about, or null if there is none
     * @param all the last row of the match, or null if it has none
     * @param own the position of the row it is put out for
     * @param out a row that was begun
     * @return whether the condition is met
     */
    boolean run(Binding running, Binding all, int own, RowWriter out) {
      row.truncate(0);
      row.begin();
      for (int i = 0; i < totals.length; i++) {
        set(i, items.get(i), running, all, own);
      }
      row.finish();
      return program.run(row.bytes(), row.start(), out);
    }

    private void set(int column, PatternItem item, Binding running, Binding all, int own) {
      if (item instanceof PatternItem.Value v) {
        int at = place(v, of[column], v.running() ? running : all);
        copy(at < 0 ? -1 : at + v.shift(), v.column(), column);
      } else if (item instanceof PatternItem.Own o) {
        copy(own, o.column(), column);
      } else if (item instanceof PatternItem.Total t) {
        totals[column].set(t.running() ? running : all, row, column);
      } else if (item instanceof PatternItem.Label l) {
        Binding last = l.running() ? running : all;
        if (last == null) {
          row.setNull(column);
        } else {
          byte[] name = names[last.variable()];
          row.setBytes(column, name, 0, name.length);
        }
      } else {
        row.setLong(column, number);
      }
    }

    private void copy(int position, int from, int column) {
      if (position < 0 || position >= size) {
        row.setNull(column);
      } else {
        rows.copy(blocks[position], from, row, column);
      }
    }
  }

  /** The position of the row that a value is of, before it is shifted; −1 if there is none. */
  private static int place(PatternItem.Value v, long variables, Binding last) {
    int offset = v.offset();
    if (v.first()) {
      int of = 0;
      for (Binding each = last; each != null; each = each.before()) {
        of += isOf(variables, each) ? 1 : 0;
      }
      offset = of - 1 - offset;
      if (offset < 0) {
        return -1;
      }
    }
    for (Binding each = last; each != null; each = each.before()) {
      if (isOf(variables, each) && offset-- == 0) {
        return each.position();
      }
    }
    return -1;
  }

  private static long bits(List<Integer> variables) {
    return variables.stream().mapToLong(v -> 1L << v).reduce(0, (a, b) -> a | b);
  }

  private static boolean isOf(long variables, Binding row) {
    return variables == 0 || (variables >>> row.variable() & 1) != 0;
  }

  /** An aggregate of rows of a match. */
  private final class Totals {
    private final long of;
    private final Accumulator accumulator;
    private final Blobs blobs = new Blobs(Versions.once());
    private final long[] state;

    Totals(PatternItem.Total total, RowLayout layout) {
      of = bits(total.of());
      accumulator = Accumulators.of(total.call(), layout, true);
      state = new long[accumulator.stateWords()];
    }

    void set(Binding last, RowWriter out, int column) {
      accumulator.release(state, 0, blobs);
      Arrays.fill(state, 0);
      for (Binding each = last; each != null; each = each.before()) {
        if (isOf(of, each)) {
          int start = rows.row(blocks[each.position()]);
          accumulator.add(rows.rowBytes(), start, 1, state, 0, blobs);
        }
      }
      accumulator.write(state, 0, blobs, out, column);
    }
  }
}
