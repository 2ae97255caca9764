package dripledger.engine.circuit;

import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.LongFunction;
import java.util.stream.Collectors;

/**
 * What a circuit is fed, by relation: who takes its rows, and which joins look rows up in it. Used
 * by who steps the circuit.
 */
final class Inputs {
  private final Map<Long, List<Taker>> takers = new LinkedHashMap<>();
  private final List<Table> tables = new ArrayList<>(); // from the root to the inputs

  /** An operator that takes a relation's rows, in the layout that it knows. */
  private record Taker(Operator operator, int port, RowLayout layout) {
    void take(Page delta) {
      if (delta.layout().columns() == layout.columns()) {
        operator.push(port, delta);
      } else {
        // The relation has got columns since this circuit was made.
        Page narrow = new Page(layout, delta.size());
        narrow.appendConverted(delta);
        operator.push(port, narrow);
      }
    }
  }

  /** A table that a join looks its rows up in. */
  private record Table(long relationId, Taker taker, ElsewhereSide side) {}

  void add(long relationId, Operator operator, int port, RowLayout layout) {
    of(relationId).add(new Taker(operator, port, layout));
  }

  /**
   * Adds a table that is looked up in; joins nearer to the root come first.
   *
   * @param operator who takes what has changed in it
   */
  void addTable(
      long relationId, Operator operator, int port, RowLayout layout, ElsewhereSide side) {
    tables.add(new Table(relationId, new Taker(operator, port, layout), side));
    of(relationId);
  }

  private List<Taker> of(long relationId) {
    return takers.computeIfAbsent(relationId, id -> new ArrayList<>());
  }

  /** The numbers of the relations. */
  Set<Long> relations() {
    return takers.keySet();
  }

  /** The layout in which a relation is read. */
  RowLayout layout(long relationId) {
    return takers.get(relationId).get(0).layout;
  }

  /** Whether a relation is only looked up in. */
  boolean onlyLooksUpIn(long relationId) {
    return takers.get(relationId).isEmpty();
  }

  /** The relations in which rows are looked up. */
  Set<Long> lookedUp() {
    return tables.stream().map(Table::relationId).collect(Collectors.toSet());
  }

  /**
   * Whether a relation's delta can be taken by columns.
   *
   * @param wanted given the columns that are read, if so
   */
  boolean takesColumns(long relationId, boolean[] wanted) {
    for (Taker taker : takers.getOrDefault(relationId, List.of())) {
      if (!(taker.operator instanceof GroupAggregate groups)
          || taker.layout.columns() != wanted.length
          || !groups.takesColumns()) {
        return false;
      }
    }
    for (Taker taker : takers.getOrDefault(relationId, List.of())) {
      ((GroupAggregate) taker.operator).addColumnsRead(wanted);
    }
    return true;
  }

  void feed(long relationId, ColumnDelta delta) {
    for (Taker taker : takers.getOrDefault(relationId, List.of())) {
      ((GroupAggregate) taker.operator).push(delta);
    }
  }

  void feed(long relationId, Page delta) {
    for (Taker taker : takers.getOrDefault(relationId, List.of())) {
      taker.take(delta);
    }
  }

  void feedTables(LongFunction<List<Page>> changes) {
    for (Table table : tables) {
      for (Page delta : changes.apply(table.relationId)) {
        table.taker.operator.push(table.taker.port, delta);
        table.side.changed(delta);
      }
    }
  }

  /** Says where rows of tables are looked up from here on; see {@link Circuit}. */
  void tables(LongFunction<KeyedRows> find, long version) {
    tables.forEach(t -> t.side.table(find.apply(t.relationId), version));
  }

  /** Says in which versions of tables rows are looked up. */
  void versions(LongFunction<StoredVersion> find) {
    for (Table t : tables) {
      StoredVersion version = find.apply(t.relationId);
      t.side.table(version.byKey(), version.version());
    }
  }
}
