package dripledger.engine.circuit;

import dripledger.engine.expr.AggregateCall;
import dripledger.engine.expr.GeneratedCode;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.store.KeyedStore;
import java.util.List;

/**
 * What an aggregate does for each row and each result, as one generated class: offsets are
 * constants, and the everyday calls (COUNT, SUM and AVG of integers and short decimals, MIN and MAX
 * of what only grows) are code in place. Calls with state of their own are called. Without state,
 * so safe from any thread.
 */
public abstract class AggregateKernel {
  /** The calls that are not generated, by number. */
  public interface Others {
    /** Adds the row with a number among those that are added. */
    void add(int call, int number, byte[] bytes, int row, long weight, long[] state, int at);

    void write(int call, long[] state, int at, RowWriter out);
  }

  /**
   * Adds rows to their groups' blocks, which are ready to be changed.
   *
   * @param rows where each row starts
   */
  public abstract void add(
      byte[] bytes,
      int[] rows,
      long[] weights,
      int count,
      KeyedStore groups,
      int[] blocks,
      Others others);

  /** Sets the result columns from a group's state. */
  public abstract void write(long[] state, int at, RowWriter out, Others others);

  /**
   * Writes a group's row at a place, all of its bytes; only if {@link #writesRows}.
   *
   * @param k the page with the key, at {@code key}
   * @param s the page with the state, at {@code at}
   */
  public abstract void row(long[] k, int key, long[] s, int at, byte[] b, int o);

  /** Whether {@link #row} is there: if all columns are of fixed size and all calls generated. */
  public abstract boolean writesRows();

  /**
   * Writes a group's row into the columns that are there, at a place; only if {@link #writesRows}.
   *
   * @param nulls given the bits of columns that are NULL
   */
  public abstract void columns(
      long[] k, int key, long[] s, int at, long[][] c, long[] nulls, int i);

  /**
   * Writes the old and the new row of each block that has changed, into the columns that are there;
   * only if {@link #writesRows}, and no block has gone. Rows that are the same in all columns that
   * are there are left out.
   *
   * @param r the page of undo records: see {@link KeyedStore.RecordSink}
   * @param size rows that are there already
   * @return rows that are there then
   */
  public abstract int changes(
      KeyedStore groups,
      long[] r,
      int from,
      int end,
      int step,
      long[][] c,
      long[] nulls,
      long[] weights,
      int size);

  /** Whether {@link #addColumns} is there: if keys are of fixed size and all calls generated. */
  public abstract boolean addsColumns();

  /** Says which columns of the input it reads, those of the key among them. */
  public abstract void columnsRead(boolean[] wanted);

  /** Adds rows given by columns, {@code count} from a place on, as {@link #add} does. */
  public abstract void addColumns(
      long[][] c,
      long[] nulls,
      long[] weights,
      int from,
      int count,
      KeyedStore groups,
      int[] blocks);

  /**
   * What the generator knows of one call.
   *
   * @param adds whether adding a row has code here
   * @param writes whether writing the result has
   * @param nullable those of its arguments that may be NULL
   */
  record Slot(AggregateCall call, int word, boolean adds, boolean writes, List<Integer> nullable) {
    /** Whether its result changes whenever a row comes or goes: then so does the group's row. */
    boolean tellsEveryChange() {
      return adds
          && call.function() == AggregateCall.Function.COUNT
          && call.arguments().isEmpty()
          && call.filterColumn() < 0;
    }
  }

  /**
   * Generates the kernel of an aggregate.
   *
   * @param keys how the group columns are kept
   * @param output of the row written: the group columns, then the results
   */
  static AggregateKernel of(List<Slot> calls, RowLayout input, GroupKeys keys, RowLayout output) {
    int firstColumn = keys.layout().columns();
    StringBuilder add = new StringBuilder();
    StringBuilder write = new StringBuilder();
    for (int i = 0; i < calls.size(); i++) {
      add(calls.get(i), i, new RowAccess(input), add);
      write(calls.get(i), i, firstColumn + i, write);
    }
    String source =
        "import dripledger.engine.row.Bytes;\n"
            + "import dripledger.engine.row.RowWriter;\n"
            + "import dripledger.engine.store.KeyedStore;\n"
            + "import dripledger.engine.circuit.AggregateKernel;\n"
            + "public final class "
            + GeneratedCode.NAME
            + " extends AggregateKernel {\n"
            + "  public void add(byte[] b, int[] rows, long[] weights, int count, KeyedStore groups,"
            + " int[] blocks, AggregateKernel.Others others) {\n"
            + "    for (int i = 0; i < count; i++) {\n"
            + "      long w = weights[i];\n"
            + "      if (w == 0) { continue; }\n"
            + "      int o = rows[i];\n"
            + "      long[] s = groups.page(blocks[i]);\n"
            + "      int at = groups.state(blocks[i]);\n"
            + "      long n = s[at] + w;\n"
            + "      s[at] = n;\n"
            + "      if (n == 0) { groups.ending(); }\n"
            + add
            + "    }\n  }\n"
            + "  public void write(long[] s, int at, RowWriter out, AggregateKernel.Others others) {\n"
            + write
            + "  }\n"
            + rowMethod(calls, keys, output)
            + columnsMethods(calls, keys, input)
            + "}\n";
    try {
      return (AggregateKernel)
          GeneratedCode.compile("Aggregate", source).getDeclaredConstructor().newInstance();
    } catch (ReflectiveOperationException e) {
      throw new IllegalStateException("generated code cannot be used:\n" + source, e);
    }
  }

  private static String rowMethod(List<Slot> calls, GroupKeys keys, RowLayout output) {
    boolean plain =
        !keys.isVariable()
            && !output.anyVariable()
            && calls.stream().allMatch(s -> s.writes && writesPlainly(s.call));
    StringBuilder out = new StringBuilder();
    StringBuilder columnsOut = new StringBuilder();
    StringBuilder locals = new StringBuilder();
    StringBuilder same = new StringBuilder();
    for (int i = 0; i < output.columns(); i++) {
      locals.append("    long[] c" + i + " = c[" + i + "];\n");
      same.append(" && (c" + i + " == null || c" + i + "[size - 1] == c" + i + "[size - 2])");
    }
    out.append("  public boolean writesRows() { return " + plain + "; }\n");
    out.append("  public void row(long[] k, int key, long[] s, int at, byte[] b, int o) {\n");
    if (plain) {
      for (int i = 0; i < output.headerBytes(); i++) {
        out.append("    b[o + " + i + "] = 0;\n");
      }
      int columns = keys.layout().columns();
      for (int i = 0; i < columns; i++) {
        String word = "k[key + " + (keys.nullWords() + i) + "]";
        String isNull =
            keys.nullWords() == 0 ? null : "(k[key + " + i / 64 + "] & " + (1L << i) + "L) != 0";
        put(output, i, isNull, word, out);
        putColumn(i, isNull, word, columnsOut);
      }
      for (int i = 0; i < calls.size(); i++) {
        Slot slot = calls.get(i);
        String word = "s[at + " + slot.word + "]";
        String next = "s[at + " + (slot.word + 1) + "]";
        if (slot.call.function().isExtreme()) {
          put(output, columns + i, word + " == 0", next, out);
          putColumn(columns + i, word + " == 0", next, columnsOut);
        } else {
          boolean mayBeNull =
              slot.call.function() == AggregateCall.Function.SUM
                  && slot.call.output().type().nullable();
          String isNull = mayBeNull ? next + " == 0" : null;
          put(output, columns + i, isNull, word, out);
          putColumn(columns + i, isNull, word, columnsOut);
        }
      }
    } else {
      out.append("    throw new IllegalStateException();\n");
    }
    out.append("  }\n");
    out.append(
        "  public void columns(long[] k, int key, long[] s, int at, long[][] c, long[] nulls, int i)"
            + " {\n");
    out.append(locals).append(columnsOut).append("  }\n");
    String put = columnsOut.toString().replace("\n    ", "\n        ");
    return out.append(
            "  public int changes(KeyedStore groups, long[] r, int from, int end, int step,")
        .append(" long[][] c, long[] nulls, long[] weights, int size) {\n")
        .append(locals)
        .append("    for (int p = from; p < end; p += step) {\n")
        .append("      int block = (int) r[p + 1];\n")
        .append("      long[] k = groups.page(block);\n")
        .append("      int key = groups.header(block) + 1;\n")
        .append("      boolean was = (r[p] & 1) == 0;\n")
        .append("      if (was) {\n")
        .append("        int i = size++;\n")
        .append("        nulls[i] = 0;\n        weights[i] = -1;\n")
        .append("        long[] s = r;\n        int at = p + 2;\n    ")
        .append(put)
        .append("      }\n")
        .append("      int i = size++;\n")
        .append("      nulls[i] = 0;\n      weights[i] = 1;\n")
        .append("      long[] s = k;\n      int at = groups.state(block);\n")
        .append(columnsOut)
        .append("      if (was && nulls[size - 1] == nulls[size - 2]")
        .append(same)
        .append(") { size -= 2; }\n")
        .append("    }\n    return size;\n  }\n")
        .toString();
  }

  private static void putColumn(int column, String isNull, String word, StringBuilder out) {
    String put = "c" + column + "[i] = " + word + ";";
    out.append("    if (c" + column + " != null) {\n");
    if (isNull == null) {
      out.append("      " + put + "\n");
    } else {
      String bit = "nulls[i] |= " + (1L << column) + "L; c" + column + "[i] = 0;";
      out.append("      if (" + isNull + ") { " + bit + " } else { " + put + " }\n");
    }
    out.append("    }\n");
  }

  /** The methods that take in rows by columns; they refuse where not all of it is generated. */
  private static String columnsMethods(List<Slot> calls, GroupKeys keys, RowLayout input) {
    boolean there =
        !keys.isVariable()
            && input.columns() <= ColumnDelta.MAX_COLUMNS
            && calls.stream().allMatch(Slot::adds);
    boolean[] read = new boolean[input.columns()];
    keys.addColumns(read);
    StringBuilder add = new StringBuilder();
    for (int n = 0; there && n < calls.size(); n++) {
      AggregateCall call = calls.get(n).call;
      call.arguments().forEach(argument -> read[argument] = true);
      if (call.filterColumn() >= 0) {
        read[call.filterColumn()] = true;
      }
      add(calls.get(n), n, new ColumnAccess(), add);
    }
    StringBuilder wanted = new StringBuilder();
    StringBuilder locals = new StringBuilder();
    for (int column = 0; column < read.length; column++) {
      if (read[column]) {
        wanted.append("    wanted[" + column + "] = true;\n");
        locals.append("    long[] c" + column + " = c[" + column + "];\n");
      }
    }
    return "  public boolean addsColumns() { return "
        + there
        + "; }\n  public void columnsRead(boolean[] wanted) {\n"
        + wanted
        + "  }\n  public void addColumns(long[][] c, long[] nulls, long[] weights, int from,"
        + " int count, KeyedStore groups, int[] blocks) {\n"
        + (there
            ? locals
                + "    for (int i = 0; i < count; i++) {\n"
                + "      int r = from + i;\n"
                + "      long w = weights[r];\n"
                + "      long[] s = groups.page(blocks[i]);\n"
                + "      int at = groups.state(blocks[i]);\n"
                + "      long n = s[at] + w;\n"
                + "      s[at] = n;\n"
                + "      if (n == 0) { groups.ending(); }\n"
                + add
                + "    }\n"
            : "    throw new IllegalStateException();\n")
        + "  }\n";
  }

  /** How code reads a column of the row at hand. */
  private interface Access {
    String isNull(int column);

    String slot(int column);
  }

  /** Of a row's bytes {@code b} at {@code o}. */
  private record RowAccess(RowLayout input) implements Access {
    @Override
    public String isNull(int column) {
      return "(b[o + " + (column >>> 3) + "] & " + (1 << (column & 7)) + ") != 0";
    }

    @Override
    public String slot(int column) {
      return "Bytes.getLong(b, o + " + input.slotOffset(column) + ")";
    }
  }

  /** Of columns {@code c0, c1, …} at row {@code r}. */
  private record ColumnAccess() implements Access {
    @Override
    public String isNull(int column) {
      return "(nulls[r] & " + (1L << column) + "L) != 0";
    }

    @Override
    public String slot(int column) {
      return "c" + column + "[r]";
    }
  }

  private static boolean writesPlainly(AggregateCall call) {
    return call.function() == AggregateCall.Function.COUNT
        || call.function().isExtreme()
        || isLongSum(call);
  }

  private static void put(
      RowLayout output, int column, String isNull, String word, StringBuilder out) {
    String at = "o + " + output.slotOffset(column);
    String set = "Bytes.putLong(b, " + at + ", " + word + ");";
    if (isNull == null) {
      out.append("    " + set + "\n");
    } else {
      out.append("    if (" + isNull + ") {\n");
      out.append("      b[o + " + (column >>> 3) + "] |= (byte) " + (1 << (column & 7)) + ";\n");
      out.append("      Bytes.putLong(b, " + at + ", 0L);\n    } else { " + set + " }\n");
    }
  }

  private static void add(Slot slot, int number, Access row, StringBuilder out) {
    AggregateCall call = slot.call;
    if (!slot.adds) {
      out.append("      others.add(" + number + ", i, b, o, w, s, at);\n");
      return;
    }
    String guard = "";
    if (call.filterColumn() >= 0) {
      int filter = call.filterColumn();
      guard += "!(" + row.isNull(filter) + ") && " + row.slot(filter) + " != 0 && ";
    }
    for (int argument : call.arguments()) {
      if (slot.nullable.contains(argument)) {
        guard += "!(" + row.isNull(argument) + ") && ";
      }
    }
    out.append("      " + (guard.isEmpty() ? "" : "if (" + guard + "true) ") + "{\n");
    String word = "s[at + " + slot.word + "]";
    String next = "s[at + " + (slot.word + 1) + "]";
    String third = "s[at + " + (slot.word + 2) + "]";
    String value = call.arguments().isEmpty() ? "" : row.slot(call.arguments().get(0));
    switch (call.function()) {
      case COUNT -> out.append("        " + word + " += w;\n");
      case MIN, MAX -> {
        String better = call.function() == AggregateCall.Function.MAX ? ">" : "<";
        out.append("        long v = " + value + ";\n");
        out.append("        if (" + word + " == 0 || v " + better + " " + next + ") {\n");
        out.append("          " + word + " = 1;\n          " + next + " = v;\n        }\n");
      }
      default -> {
        if (isLongSum(call)) {
          out.append("        " + word + " += " + value + " * w;\n");
          if (call.output().type().nullable()) {
            out.append("        " + next + " += w;\n");
          }
        } else {
          out.append("        long v = " + value + ";\n");
          out.append("        long low = v * w;\n");
          out.append("        long sum = " + word + " + low;\n");
          out.append("        " + word + " = sum;\n");
          out.append(
              "        "
                  + next
                  + " += Math.multiplyHigh(v, w)"
                  + " + (Long.compareUnsigned(sum, low) < 0 ? 1L : 0L);\n");
          out.append("        " + third + " += w;\n");
        }
      }
    }
    out.append("      }\n");
  }

  private static boolean isLongSum(AggregateCall call) {
    return call.function() == AggregateCall.Function.SUM
        && call.output().type().kind() == Kind.BIGINT;
  }

  private static void write(Slot slot, int number, int column, StringBuilder out) {
    AggregateCall call = slot.call;
    String word = "s[at + " + slot.word + "]";
    String next = "s[at + " + (slot.word + 1) + "]";
    if (slot.writes && call.function() == AggregateCall.Function.COUNT) {
      out.append("    out.setLong(" + column + ", " + word + ");\n");
    } else if (slot.writes && isLongSum(call)) {
      String set = "out.setLong(" + column + ", " + word + ");";
      out.append(
          call.output().type().nullable()
              ? "    if (" + next + " == 0) { out.setNull(" + column + "); } else { " + set + " }\n"
              : "    " + set + "\n");
    } else if (slot.writes && call.function().isExtreme()) {
      out.append(
          "    if ("
              + word
              + " == 0) { out.setNull("
              + column
              + "); } else { out.setLong("
              + column
              + ", "
              + next
              + "); }\n");
    } else {
      out.append("    others.write(" + number + ", s, at, out);\n");
    }
  }
}
