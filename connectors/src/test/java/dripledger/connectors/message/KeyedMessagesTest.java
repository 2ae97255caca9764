package dripledger.connectors.message;

import static java.nio.charset.StandardCharsets.UTF_8;
import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.FormatException;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.CatalogObject.Meta;
import dripledger.engine.catalog.Origins;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.Test;

/** Messages to the operations of a keyed table. */
class KeyedMessagesTest {
  private static final Schema GATE =
      Schema.of(
          new Column("gate", ColumnType.varchar(-1).notNull()),
          new Column("lane", ColumnType.of(Kind.INTEGER).notNull()),
          new Column("hall", ColumnType.varchar(-1)));
  private static final String[] DO = {"put", "delete", "put moved", "clear"};

  private final DriftLog drift = new DriftLog(List.of());

  private static CatalogObject.Table table(
      int[] key, Origins origins, Map<String, String> options) {
    SourceSpec source = new SourceSpec("hub_log", 9, options, "json");
    return new CatalogObject.Table(1, "gate", "", GATE, key, origins, source);
  }

  private static List<String> operations(Page page) {
    List<String> all = new ArrayList<>();
    for (int i = 0; i < page.size(); i++) {
      Object[] row = BoxedRows.read(page.layout(), page.bytes(), page.start(i));
      all.add(DO[((Long) row[3]).intValue()] + " " + row[0] + " " + row[1] + " " + row[2]);
    }
    return all;
  }

  private Page read(CatalogObject.Table table, String key, String value) {
    MessageReader reader = new MessageReader(table, drift);
    Page page = new Page(new RowLayout(reader.pageSchema()));
    reader.read(message(key, value), page);
    return page;
  }

  private static Message message(String key, String value) {
    Message message = new Message();
    message.key = key == null ? null : key.getBytes(UTF_8);
    message.value(value == null ? null : value.getBytes(UTF_8));
    message.partition = 3;
    return message;
  }

  @Test
  void theKeyIsInTheValueOrInTheMessagesKey() {
    CatalogObject.Table one = table(new int[] {0}, Origins.NONE, Map.of());
    assertThat(operations(read(one, null, "{\"gate\":\"G01\",\"lane\":1,\"hall\":\"North\"}")))
        .containsExactly("put G01 1 North");
    assertThat(operations(read(one, "G02", "{\"lane\":1}"))).containsExactly("put G02 1 null");
    assertThat(operations(read(one, "\"G03\"", "{\"lane\":1}"))).containsExactly("put G03 1 null");
    assertThat(operations(read(one, "{\"gate\":\"G04\"}", "{\"lane\":1}")))
        .containsExactly("put G04 1 null");
    assertThat(operations(read(one, "G05", null))).containsExactly("delete G05 null null");
    assertThatThrownBy(() -> read(one, null, "{\"lane\":1}"))
        .hasMessage("the key column gate is missing");
    assertThatThrownBy(() -> read(one, null, null))
        .hasMessageContaining("neither a value nor a key");
    assertThatThrownBy(() -> read(one, "G01", "{\"hall\":\"North\"}")).hasMessageContaining("lane");
  }

  @Test
  void aKeyOfSeveralColumnsIsAnObject() {
    CatalogObject.Table two = table(new int[] {0, 1}, Origins.NONE, Map.of());
    assertThat(operations(read(two, "{\"gate\":\"G01\",\"lane\":2}", "{\"hall\":\"North\"}")))
        .containsExactly("put G01 2 North");
    assertThat(operations(read(two, "{\"gate\":\"G01\",\"lane\":\"2\"}", null)))
        .containsExactly("delete G01 2 null");
    assertThatThrownBy(() -> read(two, "G01", null)).hasMessageContaining("not a JSON object");
    assertThatThrownBy(() -> read(two, "{\"gate\":\"G01\"}", null))
        .hasMessageContaining("has no field lane");
    assertThatThrownBy(() -> read(two, "{\"gate\":\"G01\",\"lane\":\"x\"}", null))
        .hasMessageContaining("is not of type INTEGER");
  }

  @Test
  void changesComeOutOfTheirWrapping() {
    CatalogObject.Table wrapped =
        table(
            new int[] {0},
            Origins.NONE,
            Map.of("operation", "op", "before", "p.old", "after", "p.new"));
    String g1 = "{\"gate\":\"G01\",\"lane\":1}";
    String g2 = "{\"gate\":\"G02\",\"lane\":2}";
    assertThat(
            operations(
                read(wrapped, null, "{\"op\":\"c\",\"p\":{\"old\":null,\"new\":" + g1 + "}}")))
        .containsExactly("put G01 1 null");
    assertThat(
            operations(
                read(
                    wrapped, null, "{\"op\":\"u\",\"p\":{\"old\":" + g1 + ",\"new\":" + g1 + "}}")))
        .containsExactly("put G01 1 null");
    assertThat(
            operations(
                read(
                    wrapped, null, "{\"op\":\"u\",\"p\":{\"old\":" + g1 + ",\"new\":" + g2 + "}}")))
        .as("the key has changed")
        .containsExactly("delete G01 1 null", "put G02 2 null");
    assertThat(operations(read(wrapped, null, "{\"op\":\"d\",\"p\":{\"old\":" + g2 + "}}")))
        .containsExactly("delete G02 2 null");
    assertThat(operations(read(wrapped, "G03", "{\"op\":\"d\",\"p\":{}}")))
        .containsExactly("delete G03 null null");
    assertThat(operations(read(wrapped, "G03", null))).as("the end of a deleted row").isEmpty();
    assertThatThrownBy(() -> read(wrapped, null, "{\"op\":")).hasMessageContaining("broken JSON");
  }

  @Test
  void aMessageThatCannotBeReadTakesItsRowAway() {
    CatalogObject.Table one = table(new int[] {0}, Origins.NONE, Map.of());
    MessageReader reader = new MessageReader(one, drift);
    Page page = new Page(new RowLayout(reader.pageSchema()));
    Message broken = message("G01", "{\"lane\":");
    assertThatThrownBy(() -> reader.read(broken, page)).isInstanceOf(FormatException.class);
    assertThat(page.isEmpty()).isTrue();
    reader.forget(broken, page);
    reader.forget(message(null, "{"), page);
    reader.forget(message("{\"other\":1}", "{"), page);
    assertThat(operations(page)).containsExactly("delete G01 null null");
  }

  @Test
  void theTransportFillsItsColumnsAndPathsLeadInside() {
    Origins origins =
        Origins.NONE.with(1, Meta.PARTITION, null).with(2, null, List.of("at", "hall"));
    CatalogObject.Table table = table(new int[] {0}, origins, Map.of());
    assertThat(operations(read(table, "G01", "{\"lane\":9,\"at\":{\"hall\":\"North\",\"row\":1}}")))
        .containsExactly("put G01 3 North");
    assertThat(drift.all().stream().map(d -> d.field() + " " + d.what()))
        .containsExactlyInAnyOrder("lane new field", "at.row new field");
  }

  @Test
  void aKeyThatIsNotTheRowsIsNoted() {
    CatalogObject.Table one = table(new int[] {0}, Origins.NONE, Map.of());
    read(one, "G01", "{\"gate\":\"G01\",\"lane\":1}");
    read(one, "\"G01\"", "{\"gate\":\"G01\",\"lane\":1}");
    assertThat(drift.all()).isEmpty();
    read(one, "North", "{\"gate\":\"G01\",\"lane\":1}");
    read(one, "\"broken", "{\"gate\":\"G01\",\"lane\":1}");
    assertThat(drift.all().get(0).what()).isEqualTo("not the row's key");
    assertThat(drift.all().get(0).count()).isEqualTo(2);
    assertThat(drift.all().get(0).example()).isEqualTo("North");
  }
}
