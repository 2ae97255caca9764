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
  private final List<Elsewhere> elsewhere = new ArrayList<>();
  private final List<Elsewhere> first = new ArrayList<>(); // from the root to the inputs

  /** An operator that takes a relation's rows, in the layout that it knows. */
  private record Taker(Operator operator, int port, RowLayout layout, ElsewhereSide side) {
    void take(Page delta) {
      push(delta);
      if (side != null) {
        side.changed(delta);
      }
    }

    void push(Page delta) {
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

  /** A relation that a join looks its rows up in. */
  private record Elsewhere(long relationId, Taker taker, ElsewhereSide side) {}

  void add(long relationId, Operator operator, int port, RowLayout layout) {
    of(relationId).add(new Taker(operator, port, layout, null));
  }

  /**
   * Adds a relation that is looked up in; joins nearer to the root come first.
   *
   * @param operator who takes what has changed in it
   * @param beforeAll whether it takes that before anything else of an epoch
   */
  void addElsewhere(
      long relationId,
      Operator operator,
      int port,
      RowLayout layout,
      ElsewhereSide side,
      boolean beforeAll) {
    Elsewhere one = new Elsewhere(relationId, new Taker(operator, port, layout, side), side);
    elsewhere.add(one);
    if (beforeAll) {
      first.add(one);
      of(relationId);
    } else {
      of(relationId).add(one.taker);
    }
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
    return elsewhere.stream().map(Elsewhere::relationId).collect(Collectors.toSet());
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

  /** Rows that were there before the circuit: who looks them up finds them where they are. */
  void fill(long relationId, Page rows) {
    for (Taker taker : takers.getOrDefault(relationId, List.of())) {
      taker.push(rows);
    }
  }

  void feed(long relationId, Page delta) {
    for (Taker taker : takers.getOrDefault(relationId, List.of())) {
      taker.take(delta);
    }
  }

  void feedTables(LongFunction<List<Page>> changes) {
    for (Elsewhere each : first) {
      for (Page delta : changes.apply(each.relationId)) {
        each.taker.take(delta);
      }
    }
  }

  /** Says where rows are looked up from here on; see {@link Circuit}. */
  void tables(LongFunction<KeyedRows> find, long version) {
    elsewhere.forEach(e -> e.side.table(find.apply(e.relationId), version));
  }

  /** Says in which versions rows are looked up. */
  void versions(LongFunction<StoredVersion> find) {
    for (Elsewhere e : elsewhere) {
      StoredVersion version = find.apply(e.relationId);
      e.side.table(version.byKey(), version.version());
    }
  }
}
