package dripledger.engine.circuit;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

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
import java.util.Objects;
import java.util.Random;
import java.util.TreeMap;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.CsvSource;

/**
 * A join whose inputs change in any order within an epoch, a row before the one it replaces has
 * gone among them, against all pairs of rows tried one by one.
 */
class JoinOrderTest {
  private static final ColumnType NUMBER = ColumnType.of(ColumnType.Kind.BIGINT);
  private static final ColumnType TEXT = ColumnType.of(ColumnType.Kind.VARCHAR);
  private static final int EPOCHS = 120;

  /** One side: its rows by number, and what has changed in the epoch. */
  private static final class Side {
    final Schema schema;
    final boolean text;
    final Map<Long, Object[]> rows = new TreeMap<>();
    final List<Map.Entry<Object[], Long>> changes = new ArrayList<>();

    Side(ColumnType joined, ColumnType value) {
      schema =
          new Schema(
              List.of(
                  new Column("id", NUMBER.notNull()),
                  new Column("k", joined),
                  new Column("v", value)));
      text = joined.equals(TEXT);
    }

    private Object[] row(long id, Random random) {
      long k = random.nextInt(12);
      // Short keys, long ones that are kept apart, and NULL.
      Object key = text ? "k" + (k % 2 == 0 ? "-".repeat(40) : "") + k : (Object) k;
      boolean numbers = schema.type(2).equals(NUMBER);
      long v = random.nextInt(5);
      return new Object[] {
        id, k == 11 ? null : key, v == 0 ? null : numbers ? (Object) v : "v" + v
      };
    }

    /** Some rows come, change or go; a row that changes twice is put out twice. */
    void change(Random random) {
      for (int n = random.nextInt(40); n > 0; n--) {
        long id = random.nextInt(60);
        Object[] old = rows.remove(id);
        if (old != null) {
          changes.add(Map.entry(old, -1L));
        }
        if (random.nextInt(4) > 0) {
          Object[] now = row(id, random);
          if (old != null && random.nextBoolean()) {
            now[1] = old[1]; // joined as before
          }
          rows.put(id, now);
          changes.add(Map.entry(now, 1L));
        }
      }
    }

    List<Page> pages(Random random) {
      List<Page> pages = new ArrayList<>();
      for (int i = 0; i < changes.size(); ) {
        Page page = new Page(new RowLayout(schema));
        for (int n = 1 + random.nextInt(30); n > 0 && i < changes.size(); n--, i++) {
          BoxedRows.write(page.begin(), changes.get(i).getKey());
          page.commit(changes.get(i).getValue());
        }
        pages.add(page);
      }
      changes.clear();
      return pages;
    }
  }

  private static PlanNode.Join plan(Side left, Side right, JoinKind kind, boolean keyed) {
    List<Column> both = new ArrayList<>(left.schema.columns());
    both.addAll(right.schema.columns());
    both.replaceAll(c -> new Column(c.name(), c.type().withNullable(true)));
    List<Column> columns = kind.pairs() ? both : left.schema.columns();
    List<Integer> key = keyed ? List.of(0) : null;
    return new PlanNode.Join(
        new PlanNode.Source(1, "l", left.schema, false, key),
        new PlanNode.Source(2, "r", right.schema, false, key),
        kind,
        List.of(1),
        List.of(1),
        List.of(false),
        null,
        new Schema(columns));
  }

  private static Map<String, Long> expected(Side left, Side right, JoinKind kind) {
    Map<String, Long> rows = new HashMap<>();
    Object[] none = new Object[3];
    for (Object[] l : left.rows.values()) {
      long met = 0;
      for (Object[] r : right.rows.values()) {
        if (l[1] != null && Objects.equals(l[1], r[1])) {
          if (kind.pairs()) {
            rows.merge(Arrays.toString(l) + Arrays.toString(r), 1L, Long::sum);
          }
          met++;
        }
      }
      boolean alone =
          switch (kind) {
            case LEFT, FULL, ANTI -> met == 0;
            case SEMI -> met > 0;
            default -> false;
          };
      if (alone) {
        rows.merge(Arrays.toString(l) + Arrays.toString(none), 1L, Long::sum);
      }
    }
    for (Object[] r : right.rows.values()) {
      boolean met = left.rows.values().stream().anyMatch(l -> r[1] != null && r[1].equals(l[1]));
      if (!met && (kind == JoinKind.RIGHT || kind == JoinKind.FULL)) {
        rows.merge(Arrays.toString(none) + Arrays.toString(r), 1L, Long::sum);
      }
    }
    return rows;
  }

  private static void take(Page delta, Map<String, Long> into) {
    for (int i = 0; i < delta.size(); i++) {
      Object[] row = BoxedRows.read(delta.layout(), delta.bytes(), delta.start(i));
      String text =
          Arrays.toString(Arrays.copyOf(row, 3))
              + Arrays.toString(Arrays.copyOfRange(Arrays.copyOf(row, 6), 3, 6));
      into.merge(text, delta.weight(i), Long::sum);
      into.remove(text, 0L);
    }
  }

  @ParameterizedTest
  @CsvSource({
    "INNER,true,false,false",
    "INNER,true,true,true",
    "INNER,false,true,true",
    "LEFT,true,false,false",
    "LEFT,true,true,false",
    "LEFT,true,false,true",
    "LEFT,false,false,false",
    "RIGHT,true,false,false",
    "RIGHT,true,true,true",
    "FULL,true,false,false",
    "FULL,true,true,true",
    "FULL,false,true,true",
    "SEMI,true,false,false",
    "SEMI,false,true,true",
    "ANTI,true,true,false",
    "ANTI,false,false,true"
  })
  void whateverComesFirstThePairsAreThere(
      JoinKind kind, boolean keyed, boolean textKeys, boolean textValues) {
    for (long seed = 1; seed <= 3; seed++) {
      Random random = new Random(seed);
      Side left = new Side(textKeys ? TEXT : NUMBER, textValues ? TEXT : NUMBER);
      Side right = new Side(textKeys ? TEXT : NUMBER, textValues ? TEXT : NUMBER);
      Versions versions = Versions.ofGraph();
      Circuit circuit = new Circuit(plan(left, right, kind, keyed));
      circuit.join(versions);
      Map<String, Long> there = new HashMap<>();
      for (int epoch = 0; epoch < EPOCHS; epoch++) {
        List<Map.Entry<Long, Page>> feeds = new ArrayList<>();
        for (Side side : List.of(left, right)) {
          side.change(random);
          if (epoch % 2 == 1) {
            Collections.shuffle(side.changes, random);
          }
          long number = side == left ? 1 : 2;
          side.pages(random).forEach(page -> feeds.add(Map.entry(number, page)));
        }
        Collections.shuffle(feeds, random);
        feeds.forEach(feed -> circuit.feed(feed.getKey(), feed.getValue()));
        take(circuit.flush(Epoch.OUTSIDE), there);
        circuit.clearOutput();
        versions.publish();
        assertThat(there)
            .as("seed " + seed + ", epoch " + epoch)
            .isEqualTo(expected(left, right, kind));
      }
    }
  }

  @Test
  void aKeyThatIsThereTwiceIsADefect() {
    Side left = new Side(NUMBER, NUMBER);
    Side right = new Side(NUMBER, NUMBER);
    Circuit circuit = new Circuit(plan(left, right, JoinKind.INNER, true));
    left.changes.add(Map.entry(new Object[] {1L, 1L, 1L}, 1L));
    left.changes.add(Map.entry(new Object[] {1L, 2L, 1L}, 1L));
    left.pages(new Random(1)).forEach(page -> circuit.feed(1, page));
    assertThatThrownBy(() -> circuit.flush(Epoch.OUTSIDE))
        .isInstanceOf(IllegalStateException.class)
        .hasMessageContaining("twice");
  }
}
