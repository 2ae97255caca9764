package dripledger.engine.circuit;

import dripledger.engine.expr.Program;
import dripledger.engine.expr.ProgramCompiler;
import dripledger.engine.expr.RowProgram;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.util.Arrays;
import java.util.List;

/**
 * How a relation's rows are made of the rows of a store, and in which order they are found. Belongs
 * to one relation; safe from any thread.
 */
final class Finish {
  private final RowProgram program; // or null: the stored rows as they are
  private final boolean passesEveryRow;
  private final RowLayout layout;
  private final int[] key;
  private final int[] places; // for each column of the store's key where it is, or −1
  private final int[] hashColumns;
  private final int[] orderColumns;
  private volatile Known index;
  private volatile List<Finish> others = List.of();
  private final ThreadLocal<BlockReader.Room[]> room =
      ThreadLocal.withInitial(() -> new BlockReader.Room[1]);
  private boolean declared; // an order that is kept although nobody asks for it

  /** The index of rows, which may be null; the rows of a step that was made again are others. */
  private record Known(StoredRows rows, OrderedIndex index) {}

  private Finish(Program program, RowLayout layout, int[] key, int[] places) {
    boolean same = program == null || program.isIdentity();
    this.program = same ? null : ProgramCompiler.compile(program).program();
    passesEveryRow = same || program.neverFails();
    this.layout = layout;
    this.places = places;
    this.key = key == null ? all(layout.columns()) : key;
    hashColumns = sameColumns(this.key, places) ? places : null;
    orderColumns = orderColumns();
  }

  /** The same rows in another order. */
  private Finish(Finish same, int[] key) {
    program = same.program;
    passesEveryRow = same.passesEveryRow;
    layout = same.layout;
    places = same.places;
    this.key = key;
    hashColumns = null;
    orderColumns = orderColumns();
    declared = true;
  }

  /** Says in which other orders the rows are found; the writer's thread. */
  void orders(List<int[]> columns) {
    for (Finish each : others) {
      each.declared = false;
      if (each.index != null && each.index.index != null) {
        each.index.index.declared(false);
        each.index.rows.forget(each);
      }
    }
    others = columns.stream().map(c -> new Finish(this, c)).toList();
  }

  /** The same in the orders that were declared. */
  List<Finish> others() {
    return others;
  }

  /** Whether somebody has said that rows are found in this order. */
  boolean isDeclared() {
    return declared;
  }

  /** Whether the order is by columns of the rows, and not of the store's key. */
  boolean isByRow() {
    return orderColumns == null;
  }

  private static int[] all(int columns) {
    int[] all = new int[columns];
    Arrays.setAll(all, i -> i);
    return all;
  }

  private static boolean sameColumns(int[] key, int[] places) {
    return key.length > 0
        && key.length == places.length
        && Arrays.stream(places).allMatch(p -> Arrays.stream(key).anyMatch(k -> k == p));
  }

  /** For each key column the column of the store's key that it is; null if one is none. */
  private int[] orderColumns() {
    int[] columns = new int[key.length];
    for (int k = 0; k < key.length; k++) {
      columns[k] = -1;
      for (int s = 0; s < places.length; s++) {
        if (places[s] == key[k]) {
          columns[k] = s;
        }
      }
      if (columns[k] < 0) {
        return null;
      }
    }
    return columns;
  }

  /** A step's own rows. */
  static Finish none(PlanNode.Aggregate step) {
    int[] key = all(step.groupColumns().size());
    return new Finish(null, new RowLayout(step.schema()), key, key);
  }

  /** Rows as they are stored. */
  static Finish none(RowLayout layout, int[] key, int[] storedKey) {
    return new Finish(null, layout, key, storedKey);
  }

  /**
   * @param top what is made of the step
   * @param key the columns rows are ordered and found by, or null for all
   */
  static Finish of(PlanNode top, PlanNode.Source step, Schema schema, int[] key) {
    Program program = top instanceof PlanNode.Transform t ? t.program() : null;
    int[] places = new int[step.key().size()];
    for (int g = 0; g < places.length; g++) {
      List<Integer> place =
          program == null ? List.of(g) : program.whereIs(List.of(step.key().get(g)));
      places[g] = place == null ? -1 : place.get(0);
    }
    return new Finish(program, new RowLayout(schema), key, places);
  }

  /** What is made of a stored row, or null if it stays as it is. */
  RowProgram program() {
    return program;
  }

  /** Whether every stored row is a row of the relation, and none can fail. */
  boolean passesEveryRow() {
    return passesEveryRow;
  }

  RowLayout layout() {
    return layout;
  }

  /** What the thread that asks keeps to make rows in, or null in it. */
  BlockReader.Room[] room() {
    return room.get();
  }

  /** The columns rows are ordered by. */
  int[] key() {
    return key;
  }

  /** For each column of the store's key which of the relation's it is; null: the key is another. */
  int[] hashColumns() {
    return hashColumns;
  }

  /** The order of the relation, or null if it cannot be told from the store's keys. */
  OrderedIndex index(StoredRows rows) {
    Known known = index;
    if (known == null || known.rows != rows) {
      known = new Known(rows, find(rows));
      if (declared && known.index != null) {
        known.index.declared(true);
      }
      index = known;
    }
    return known.index;
  }

  private OrderedIndex find(StoredRows rows) {
    OrderedIndexes byRow = orderColumns == null ? rows.rowIndexes(this) : null;
    if (byRow != null) {
      return byRow.by(key);
    }
    if (orderColumns == null || orderColumns.length == 0) {
      return null;
    }
    Schema stored = rows.keys().layout().schema();
    for (int k = 0; k < key.length; k++) {
      if (!layout.schema().type(key[k]).equals(stored.type(orderColumns[k]))) {
        return null; // its bytes would be others
      }
    }
    return rows.indexes().by(orderColumns);
  }
}
