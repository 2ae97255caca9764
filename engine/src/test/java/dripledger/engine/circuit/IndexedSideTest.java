package dripledger.engine.circuit;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.expr.Expr;
import dripledger.engine.expr.Program;
import dripledger.engine.plan.JoinKind;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import dripledger.engine.store.Versions;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collections;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.TreeMap;
import java.util.stream.Stream;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;

/** Joins that find the rows of a table by an index of their own, against all pairs tried. */
class IndexedSideTest {
  private static final ColumnType NUMBER = ColumnType.of(ColumnType.Kind.BIGINT);
  private static final ColumnType TEXT = ColumnType.of(ColumnType.Kind.VARCHAR);
  private static final int EPOCHS = 120;
  private static final long GATES = 1;
  private static final long HALLS = 2;

  /** Gates by number, each in a hall, which may be a long text or none. */
  private static final Schema GATE =
      new Schema(
          List.of(
              new Column("gate", NUMBER.notNull()),
              new Column("hall", TEXT),
              new Column("note", TEXT)));

  private static final Schema HALL =
      new Schema(
          List.of(
              new Column("name", TEXT.notNull()),
              new Column("floor", NUMBER),
              new Column("hall", TEXT)));

  private static PlanNode gates() {
    return new PlanNode.Source(GATES, "gate", GATE, false, List.of(0), true);
  }

  private static PlanNode halls(boolean keptByKey) {
    return new PlanNode.Source(HALLS, "hall", HALL, false, List.of(0), keptByKey);
  }

  /** Of the gates their note and hall, and no key. */
  private static PlanNode picked() {
    List<Expr> columns = Stream.of(2, 1).map(c -> (Expr) new Expr.Column(c, TEXT)).toList();
    Schema schema = new Schema(List.of(GATE.column(2), GATE.column(1)));
    return new PlanNode.Transform(gates(), new Program(GATE, null, columns, schema));
  }

  /** Halls joined with the gates picked, by the hall's second name. */
  private static PlanNode.Join join(JoinKind kind, boolean bothKept, boolean nullIsNull) {
    List<Column> all = new ArrayList<>(HALL.columns());
    if (kind.pairs()) {
      all.addAll(picked().schema().columns());
      all.replaceAll(c -> new Column(c.name(), c.type().withNullable(true)));
    }
    return new PlanNode.Join(
        halls(bothKept),
        picked(),
        kind,
        List.of(2),
        List.of(1),
        List.of(nullIsNull),
        null,
        new Schema(all));
  }

  private static String hall(Random random) {
    return switch (random.nextInt(5)) {
      case 0 -> null;
      case 1 -> "a hall with a name that is too long to be kept inline " + random.nextInt(2);
      default -> "h" + random.nextInt(3);
    };
  }

  /** The rows of a table, and what has changed in them in an epoch. */
  private static final class Rows {
    final Map<Object, Object[]> rows = new TreeMap<>();
    final List<Map.Entry<Object[], Long>> changes = new ArrayList<>();

    void put(Object[] row) {
      remove(row[0]);
      rows.put(row[0], row);
      changes.add(Map.entry(row, 1L));
    }

    void remove(Object key) {
      Object[] old = rows.remove(key);
      if (old != null) {
        changes.add(Map.entry(old, -1L));
      }
    }

    /** What has changed, a row that goes before the one in its place or behind it. */
    Page delta(Schema schema, Random random) {
      if (random.nextBoolean()) {
        net();
        Collections.shuffle(changes, random);
      }
      Page page = page(schema, changes);
      changes.clear();
      return page;
    }

    /** Of a row that comes and goes again within the epoch nothing is left. */
    private void net() {
      Map<Object[], Long> sums = new HashMap<>(); // by identity
      changes.forEach(c -> sums.merge(c.getKey(), c.getValue(), Long::sum));
      changes.removeIf(c -> sums.get(c.getKey()) == 0);
    }
  }

  private static Page page(Schema schema, List<Map.Entry<Object[], Long>> changes) {
    Page page = new Page(new RowLayout(schema));
    for (Map.Entry<Object[], Long> change : changes) {
      BoxedRows.write(page.begin(), change.getKey());
      page.commit(change.getValue());
    }
    return page;
  }

  private static void change(Rows gates, Rows halls, Random random) {
    for (int n = random.nextInt(7); n > 0; n--) {
      long gate = random.nextInt(12);
      if (random.nextInt(4) == 0) {
        gates.remove(gate);
      } else {
        gates.put(new Object[] {gate, hall(random), "n" + random.nextInt(3)});
      }
    }
    for (int n = random.nextInt(5); n > 0; n--) {
      String name = "name" + random.nextInt(8);
      if (random.nextInt(4) == 0) {
        halls.remove(name);
      } else {
        halls.put(new Object[] {name, (long) random.nextInt(3), hall(random)});
      }
    }
  }

  private static Map<String, Long> expected(
      Rows gates, Rows halls, JoinKind kind, boolean nullIsNull) {
    Map<String, Long> all = new HashMap<>();
    for (Object[] hall : halls.rows.values()) {
      long met = 0;
      for (Object[] gate : gates.rows.values()) {
        boolean same = hall[2] == null ? nullIsNull && gate[1] == null : hall[2].equals(gate[1]);
        if (same) {
          met++;
          if (kind.pairs()) {
            all.merge(text(hall, gate[2], gate[1]), 1L, Long::sum);
          }
        }
      }
      if (kind == JoinKind.LEFT && met == 0) {
        all.merge(text(hall, null, null), 1L, Long::sum);
      } else if (kind == JoinKind.SEMI && met > 0 || kind == JoinKind.ANTI && met == 0) {
        all.merge(Arrays.toString(hall), 1L, Long::sum);
      }
    }
    return all;
  }

  private static String text(Object[] hall, Object note, Object name) {
    return Arrays.toString(new Object[] {hall[0], hall[1], hall[2], note, name});
  }

  private static void take(Page delta, Map<String, Long> into) {
    for (int i = 0; i < delta.size(); i++) {
      String row = Arrays.toString(BoxedRows.read(delta.layout(), delta.bytes(), delta.start(i)));
      into.merge(row, delta.weight(i), Long::sum);
      into.remove(row, 0L);
    }
  }

  @ParameterizedTest
  @CsvSource({
    "INNER,false,false",
    "INNER,true,false",
    "INNER,true,true",
    "LEFT,true,false",
    "LEFT,false,true",
    "SEMI,true,false",
    "ANTI,true,false",
    "ANTI,false,true"
  })
  void rowsAreThoseOfTheTablesAsTheyAre(JoinKind kind, boolean bothKept, boolean nullIsNull) {
    PlanNode.Join plan = join(kind, bothKept, nullIsNull);
    assertThat(plan.table()).isEqualTo(1);
    assertThat(plan.byKey()).isFalse();
    boolean both = bothKept && kind == JoinKind.INNER;
    assertThat(plan.bothElsewhere()).isEqualTo(both);
    for (long seed = 1; seed <= 4; seed++) {
      Random random = new Random(seed);
      Versions versions = Versions.ofGraph();
      KeptRows gateRows = KeptRows.unique(GATE, new int[] {0});
      KeptRows hallRows = KeptRows.unique(HALL, new int[] {0});
      gateRows.join(versions);
      hallRows.join(versions);
      Rows gates = new Rows();
      Rows halls = new Rows();
      Circuit circuit = new Circuit(plan);
      circuit.join(versions);
      circuit.tables(id -> id == GATES ? gateRows.byKey() : hallRows.byKey());
      Map<String, Long> there = new HashMap<>();
      for (int epoch = 0; epoch < EPOCHS; epoch++) {
        change(gates, halls, random);
        Page ofGates = gates.delta(GATE, random);
        Page ofHalls = halls.delta(HALL, random);
        gateRows.apply(ofGates);
        hallRows.apply(ofHalls);
        circuit.feedTables(id -> List.of(ofGates));
        circuit.feed(HALLS, ofHalls);
        take(circuit.flush(Epoch.OUTSIDE), there);
        circuit.clearOutput();
        versions.publish();
        assertThat(there)
            .as("seed " + seed + ", epoch " + epoch)
            .isEqualTo(expected(gates, halls, kind, nullIsNull));
      }
      long kept = both ? 0 : kept(halls, nullIsNull);
      assertThat(circuit.stateKeys()).isEqualTo(kept);
      assertThat(circuit.durable()).hasSize(both ? 0 : 1);
      circuit.leave();
    }
  }

  /** Rows whose key is NULL meet nothing and are not kept. */
  private static long kept(Rows halls, boolean nullIsNull) {
    return halls.rows.values().stream().filter(r -> nullIsNull || r[2] != null).count();
  }

  /** What was there before the circuit is found, of whatever version is said. */
  @Test
  void theIndexIsMadeOfWhatIsThere() {
    Versions versions = Versions.ofGraph();
    KeptRows gateRows = KeptRows.unique(GATE, new int[] {0});
    KeptRows hallRows = KeptRows.unique(HALL, new int[] {0});
    gateRows.join(versions);
    hallRows.join(versions);
    Object[] before = {1L, "h0", "before"};
    Object[] after = {1L, "h1", "after"};
    Object[] hall = {"name", 0L, "h0"};
    gateRows.apply(page(GATE, List.of(Map.entry(before, 1L))));
    hallRows.apply(page(HALL, List.of(Map.entry(hall, 1L))));
    versions.publish();
    try (Versions.Pin pin = versions.pinFirmly()) {
      Page change = page(GATE, List.of(Map.entry(before, -1L), Map.entry(after, 1L)));
      gateRows.apply(change);
      versions.publish();
      Circuit circuit = new Circuit(join(JoinKind.INNER, true, false));
      circuit.join(versions);
      circuit.tables(id -> id == GATES ? gateRows.byKey() : hallRows.byKey(), pin.version());
      circuit.fill(HALLS, page(HALL, List.of(Map.entry(hall, 1L))));
      Map<String, Long> there = new HashMap<>();
      take(circuit.flush(Epoch.OUTSIDE), there);
      circuit.clearOutput();
      assertThat(there).containsOnlyKeys(text(hall, "before", "h0"));
      circuit.tables(id -> id == GATES ? gateRows.byKey() : hallRows.byKey(), ElsewhereSide.NOW);
      circuit.feedTables(id -> List.of(change));
      take(circuit.flush(Epoch.OUTSIDE), there);
      assertThat(there).isEmpty();
    }
  }

  @Test
  void rowsOfAnotherStoreAreRefused() {
    Versions versions = Versions.ofGraph();
    KeptRows one = KeptRows.unique(GATE, new int[] {0});
    KeptRows other = KeptRows.unique(GATE, new int[] {0});
    one.join(versions);
    other.join(versions);
    Circuit circuit = new Circuit(join(JoinKind.LEFT, false, false));
    circuit.join(versions);
    circuit.tables(id -> one.byKey());
    assertThatThrownBy(() -> circuit.tables(id -> other.byKey()))
        .isInstanceOf(IllegalStateException.class)
        .hasMessageContaining("others now");
  }

  @Test
  void aRowThatGoesTwiceIsADefect() {
    Versions versions = Versions.ofGraph();
    KeptRows gateRows = KeptRows.unique(GATE, new int[] {0});
    gateRows.join(versions);
    Object[] gate = {1L, "h0", "n"};
    gateRows.apply(page(GATE, List.of(Map.entry(gate, 1L))));
    versions.publish();
    Circuit circuit = new Circuit(join(JoinKind.LEFT, false, false));
    circuit.join(versions);
    circuit.tables(id -> gateRows.byKey());
    Page goes = page(GATE, List.of(Map.entry(gate, -1L)));
    gateRows.apply(goes);
    circuit.feedTables(id -> List.of(goes));
    assertThatThrownBy(() -> circuit.feedTables(id -> List.of(goes)))
        .isInstanceOf(IllegalStateException.class);
  }
}
