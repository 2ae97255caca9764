package dripledger.engine.circuit;

import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.ArrayLayouts;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;

/**
 * A row for each element of a row's arrays: d(U R) = U dR, as each row is taken apart by itself.
 * Arrays of several columns stand side by side; one that is shorter has NULLs. Without state.
 */
final class Unnest implements Operator {
  private final PlanNode.Unnest plan;
  private final RowLayout input;
  private final Page out;
  private final Operator next;
  private final int port;
  private final Elements[] arrays;

  /** The array of a row that is at hand. */
  private static final class Elements {
    final ColumnType type;
    private final ArrayLayouts layouts;
    RowLayout layout;
    int count;
    int start;

    Elements(ColumnType type) {
      this.type = type;
      layouts = new ArrayLayouts(type);
    }

    void at(RowLayout row, byte[] bytes, int start, int column) {
      count = 0;
      if (!row.isNull(bytes, start, column)) {
        int array = row.variableOffset(bytes, start, column);
        count = Bytes.getInt(bytes, array);
        this.start = array + 4;
        layout = layouts.of(count);
      }
    }

    int columns() {
      return type.kind() == Kind.ROW ? type.fields().size() : 1;
    }

    /** Writes an element, NULLs if there is none. */
    void write(byte[] bytes, int i, RowWriter out, int column) {
      boolean isNull = i >= count || layout.isNull(bytes, start, i);
      if (!isNull && type.kind() != Kind.ROW) {
        out.copy(column, layout, bytes, start, i);
        return;
      }
      for (int c = 0; c < columns(); c++) {
        if (isNull) {
          out.setNull(column + c);
        } else {
          int row = layout.variableOffset(bytes, start, i);
          out.copy(column + c, layout.nested(i), bytes, row, c);
        }
      }
    }
  }

  Unnest(PlanNode.Unnest plan, Operator next, int port) {
    this.plan = plan;
    this.next = next;
    this.port = port;
    input = new RowLayout(plan.input().schema());
    out = new Page(new RowLayout(plan.schema()));
    arrays = new Elements[input.columns() - plan.kept()];
    for (int i = 0; i < arrays.length; i++) {
      arrays[i] = new Elements(input.schema().type(plan.kept() + i).element());
    }
  }

  @Override
  public void push(int fromPort, Page delta) {
    for (int r = 0; r < delta.size(); r++) {
      byte[] bytes = delta.bytes();
      int row = delta.start(r);
      int most = 0;
      for (int a = 0; a < arrays.length; a++) {
        arrays[a].at(input, bytes, row, plan.kept() + a);
        most = Math.max(most, arrays[a].count);
      }
      for (int i = 0; i < (most == 0 && plan.outer() ? 1 : most); i++) {
        element(bytes, row, i, most);
        out.commit(delta.weight(r));
        if (out.size() >= ColumnDelta.ROWS) {
          handOn();
        }
      }
    }
    handOn();
  }

  private void element(byte[] bytes, int row, int i, int most) {
    RowWriter writer = out.begin();
    for (int c = 0; c < plan.kept(); c++) {
      writer.copy(c, input, bytes, row, c);
    }
    int column = plan.kept();
    for (Elements array : arrays) {
      array.write(bytes, i, writer, column);
      column += array.columns();
    }
    if (plan.ordinality() && most == 0) {
      writer.setNull(column);
    } else if (plan.ordinality()) {
      writer.setLong(column, i + 1L);
    }
  }

  private void handOn() {
    if (!out.isEmpty()) {
      next.push(port, out);
      out.clear();
    }
  }
}
