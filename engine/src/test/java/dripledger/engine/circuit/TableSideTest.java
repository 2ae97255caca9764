package dripledger.engine.circuit;

import static org.assertj.core.api.Assertions.assertThat;

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

/** Joins that look rows up in a table's own store, against all pairs tried one by one. */
class TableSideTest {
  private static final ColumnType NUMBER = ColumnType.of(ColumnType.Kind.BIGINT);
  private static final ColumnType TEXT = ColumnType.of(ColumnType.Kind.VARCHAR);
  private static final int EPOCHS = 150;

  /** Gates by hall and number; the hall may be a long text. */
  private static final Schema GATE =
      new Schema(
          List.of(
              new Column("name", TEXT),
              new Column("hall", TEXT.notNull()),
              new Column("gate", NUMBER.notNull())));

  private static final Schema SCAN =
      new Schema(
          List.of(
              new Column("id", NUMBER.notNull()),
              new Column("gate", NUMBER),
              new Column("hall", TEXT)));

  private static final int[] KEY = {1, 2};

  private static final PlanNode GATES =
      new PlanNode.Source(1, "gate", GATE, false, List.of(1, 2), true);

  private static PlanNode scans(boolean stream) {
    return new PlanNode.Source(2, "scan", SCAN, stream, stream ? null : List.of(0));
  }

  /** Of the table its number, hall and name, in this order: the key the wrong way round. */
  private static PlanNode picked() {
    List<Expr> columns =
        Stream.of(2, 1, 0).map(c -> (Expr) new Expr.Column(c, GATE.type(c))).toList();
    Schema schema = new Schema(List.of(GATE.column(2), GATE.column(1), GATE.column(0)));
    return new PlanNode.Transform(GATES, new Program(GATE, null, columns, schema));
  }

  private static PlanNode.Join join(
      PlanNode left, PlanNode right, JoinKind kind, boolean tableIsLeft) {
    List<Column> both = new ArrayList<>(left.schema().columns());
    both.addAll(right.schema().columns());
    both.replaceAll(c -> new Column(c.name(), c.type().withNullable(true)));
    List<Integer> ofTable = List.of(0, 1);
    List<Integer> ofScan = List.of(1, 2);
    return new PlanNode.Join(
        left,
        right,
        kind,
        tableIsLeft ? ofTable : ofScan,
        tableIsLeft ? ofScan : ofTable,
        List.of(false, false),
        null,
        new Schema(both));
  }

  private static String hall(Random random) {
    return "hall" + (random.nextBoolean() ? "-".repeat(40) : "") + random.nextInt(2);
  }

  private static Page page(Schema schema, List<Map.Entry<Object[], Long>> changes) {
    Page page = new Page(new RowLayout(schema));
    for (Map.Entry<Object[], Long> change : changes) {
      BoxedRows.write(page.begin(), change.getKey());
      page.commit(change.getValue());
    }
    return page;
  }

  private static String pair(Object[] scan, Object[] gate) {
    Object[] g = gate == null ? new Object[3] : new Object[] {gate[2], gate[1], gate[0]};
    return Arrays.toString(scan) + Arrays.toString(g);
  }

  @ParameterizedTest
  @CsvSource({
    "INNER,false,true",
    "INNER,false,false",
    "INNER,true,false",
    "LEFT,false,true",
    "LEFT,false,false",
    "RIGHT,true,true"
  })
  void rowsAreThoseOfTheTableAsItIs(JoinKind kind, boolean tableIsLeft, boolean stream) {
    for (long seed = 1; seed <= 3; seed++) {
      Random random = new Random(seed);
      PlanNode.Join plan =
          tableIsLeft
              ? join(picked(), scans(stream), kind, true)
              : join(scans(stream), picked(), kind, false);
      assertThat(plan.table()).isEqualTo(tableIsLeft ? 0 : 1);
      Versions versions = Versions.ofGraph();
      KeptRows table = KeptRows.unique(GATE, KEY);
      table.join(versions);
      Circuit circuit = new Circuit(plan);
      circuit.join(versions);
      circuit.tables(id -> id == 1 ? table.byKey() : null, ElsewhereSide.NOW);
      Map<String, Object[]> gates = new TreeMap<>();
      Map<Long, Object[]> scans = new TreeMap<>();
      Map<String, Long> there = new HashMap<>();
      long next = 0;
      for (int epoch = 0; epoch < EPOCHS; epoch++) {
        List<Map.Entry<Object[], Long>> ofGates = new ArrayList<>();
        for (int n = random.nextInt(6); n > 0; n--) {
          Object[] now = {"n" + random.nextInt(3), hall(random), (long) random.nextInt(4)};
          Object[] old = gates.remove(now[1] + "/" + now[2]);
          if (old != null) {
            ofGates.add(Map.entry(old, -1L));
          }
          if (random.nextInt(3) > 0) {
            gates.put(now[1] + "/" + now[2], now);
            ofGates.add(Map.entry(now, 1L));
          }
        }
        List<Map.Entry<Object[], Long>> ofScans = new ArrayList<>();
        for (int n = random.nextInt(20); n > 0; n--) {
          Object[] scan = {
            stream ? next++ : (long) random.nextInt(30),
            random.nextInt(8) == 0 ? null : (Object) (long) random.nextInt(4),
            hall(random)
          };
          Object[] old = scans.put((Long) scan[0], scan);
          if (old != null) {
            ofScans.add(Map.entry(old, -1L));
          }
          ofScans.add(Map.entry(scan, 1L));
        }
        if (epoch % 2 == 1) {
          Collections.shuffle(ofGates, random); // a new row before the old one has gone
          Collections.shuffle(ofScans, random);
        }
        Page changed = page(GATE, ofGates);
        table.apply(changed);
        circuit.feedTables(id -> List.of(changed));
        circuit.feed(2, page(SCAN, ofScans));
        take(circuit.flush(Epoch.OUTSIDE), tableIsLeft, there);
        circuit.clearOutput();
        versions.publish();
        assertThat(there)
            .as("seed " + seed + ", epoch " + epoch)
            .isEqualTo(expected(scans, gates, kind));
      }
      assertThat(circuit.durable()).hasSize(1);
    }
  }

  private static void take(Page delta, boolean tableIsLeft, Map<String, Long> into) {
    for (int i = 0; i < delta.size(); i++) {
      Object[] row = BoxedRows.read(delta.layout(), delta.bytes(), delta.start(i));
      Object[] first = Arrays.copyOf(row, 3);
      Object[] second = Arrays.copyOfRange(row, 3, 6);
      String text =
          tableIsLeft
              ? Arrays.toString(second) + Arrays.toString(first)
              : Arrays.toString(first) + Arrays.toString(second);
      into.merge(text, delta.weight(i), Long::sum);
      into.remove(text, 0L);
    }
  }

  private static Map<String, Long> expected(
      Map<Long, Object[]> scans, Map<String, Object[]> gates, JoinKind kind) {
    Map<String, Long> rows = new HashMap<>();
    for (Object[] scan : scans.values()) {
      Object[] gate = gates.get(scan[2] + "/" + scan[1]);
      if (gate != null || kind != JoinKind.INNER) {
        rows.merge(pair(scan, gate), 1L, Long::sum);
      }
    }
    return rows;
  }

  /** A version that is pinned is read as it was, whatever the table has become since. */
  @Test
  void aPinnedVersionIsReadAsItWas() {
    Versions versions = Versions.ofGraph();
    KeptRows table = KeptRows.unique(GATE, KEY);
    table.join(versions);
    Object[] old = {"old", "h", 1L};
    Object[] other = {"new", "h", 1L};
    table.apply(page(GATE, List.of(Map.entry(old, 1L))));
    versions.publish();
    try (Versions.Pin pin = versions.pinFirmly()) {
      table.apply(page(GATE, List.of(Map.entry(old, -1L), Map.entry(other, 1L))));
      versions.publish();
      Circuit circuit = new Circuit(join(scans(true), picked(), JoinKind.INNER, false));
      circuit.tables(id -> table.byKey(), pin.version());
      Object[] scan = {7L, 1L, "h"};
      circuit.feed(2, page(SCAN, List.of(Map.entry(scan, 1L))));
      Map<String, Long> there = new HashMap<>();
      take(circuit.flush(Epoch.OUTSIDE), false, there);
      assertThat(there).containsOnlyKeys(pair(scan, old));
    }
  }

  @Test
  void whatCannotBeLookedUpIsKept() {
    PlanNode scans = scans(true);
    assertThat(join(scans, picked(), JoinKind.RIGHT, false).table()).isEqualTo(-1);
    assertThat(join(scans, picked(), JoinKind.FULL, false).table()).isEqualTo(-1);
    PlanNode view = new PlanNode.Source(1, "gate", GATE, false, List.of(1, 2));
    assertThat(join(scans, view, JoinKind.INNER, false).table()).isEqualTo(-1);
    assertThat(join(scans, picked(), JoinKind.INNER, false).byKey()).isTrue();
    assertThat(join(scans, GATES, JoinKind.INNER, false).table()).isEqualTo(1);
    assertThat(join(scans, GATES, JoinKind.INNER, false).byKey()).isFalse(); // by an index
  }
}
