package dripledger.connectors.format;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.catalog.Origins;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.Schema;
import java.io.ByteArrayInputStream;
import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.Test;

class EventParserTest {
  private static final Schema SCAN =
      Schema.of(
          new Column("parcel", ColumnType.of(Kind.BIGINT).notNull()),
          new Column("gate", ColumnType.varchar(-1)),
          new Column("at", ColumnType.of(Kind.TIMESTAMP)),
          new Column("grams", ColumnType.of(Kind.INTEGER)),
          new Column("price", ColumnType.decimal(8, 2)),
          new Column(
              "scanner",
              ColumnType.row(
                  List.of(
                      new Column("id", ColumnType.varchar(-1)),
                      new Column("battery", ColumnType.of(Kind.DOUBLE))))));

  private final List<String> rows = new ArrayList<>();
  private final List<String> rejects = new ArrayList<>();
  private final List<String> raws = new ArrayList<>();

  private void parse(String body, EventParser.Format format) throws IOException {
    EventParser parser =
        new EventParser(
            SCAN,
            Origins.NONE,
            Map.of(),
            this::keep,
            r -> {
              rejects.add(r.line() + ": " + r.reason());
              raws.add(r.raw());
            },
            null);
    parser.parse(new ByteArrayInputStream(body.getBytes(StandardCharsets.UTF_8)), format);
  }

  private void keep(Page page) {
    for (int i = 0; i < page.size(); i++) {
      rows.add(Arrays.toString(BoxedRows.read(page.layout(), page.bytes(), page.start(i))));
    }
  }

  /** Names that are always new must neither fill the parser nor confuse it. */
  @Test
  void everNewFieldNamesAreReadForAsLongAsTheyCome() throws IOException {
    StringBuilder body = new StringBuilder();
    for (int i = 0; i < 45_000; i++) {
      body.append("{\"new").append(i * 7919).append("\":1,\"parcel\":").append(i).append("}\n");
      if (i % 9000 == 5) {
        body.append("{\"parcel\":broken\n");
      }
    }
    parse(body.toString(), EventParser.Format.NDJSON);
    assertThat(rows).hasSize(45_000);
    assertThat(rows.get(44_999)).startsWith("[44999, ");
    assertThat(rejects).hasSize(5).allMatch(r -> r.contains("broken JSON"));
  }

  @Test
  void brokenLinesAreRejectedOneByOne() throws IOException {
    parse(
        """
        {"parcel":1,"gate":"G07","at":"2026-03-02T06:14:09.120Z","grams":1840,"price":"1.5","scanner":{"id":"S-31","battery":0.82},"extra":[1,{"a":2}]}
        {"parcel":2,"gate":
        {"gate":"G07"}

        {"parcel":3,"grams":"heavy"}
        [1]
        {"parcel":4,"grams":12.5}
        {"parcel":5,"scanner":7}
        {"parcel":6,"grams":"12","at":1772431200000}
        {"parcel":7,"price":1.005,"gate":{"a":[1]}}""",
        EventParser.Format.NDJSON);
    assertThat(rows)
        .containsExactly(
            "[1, G07, 2026-03-02T06:14:09.120, 1840, 1.50, [S-31, 0.82]]",
            "[6, null, 2026-03-02T06:00, 12, null, null]",
            "[7, {\"a\":[1]}, null, null, 1.01, null]");
    assertThat(rejects)
        .satisfiesExactly(
            r -> assertThat(r).startsWith("2: broken JSON: "),
            r -> assertThat(r).isEqualTo("3: column parcel is NOT NULL and the value is missing"),
            r -> assertThat(r).isEqualTo("5: column grams: \"heavy\" is not of type INTEGER"),
            r -> assertThat(r).isEqualTo("6: not a JSON object"),
            r -> assertThat(r).isEqualTo("7: column grams: 12.5 is not of type INTEGER"),
            r ->
                assertThat(r)
                    .isEqualTo(
                        "8: column scanner: 7 is not of type ROW(id VARCHAR, battery DOUBLE)"));
  }

  @Test
  void anArrayIsReadElementByElement() throws IOException {
    parse(
        "[{\"parcel\":1},{\"parcel\":\"x\",\"gate\":\"G\"},3,{\"parcel\":2}]",
        EventParser.Format.JSON_ARRAY);
    assertThat(rows).hasSize(2);
    assertThat(rejects)
        .containsExactly("2: column parcel: \"x\" is not of type BIGINT", "3: not a JSON object");
    parse("[{\"parcel\":9},{\"par", EventParser.Format.JSON_ARRAY);
    assertThat(rows).hasSize(3);
    assertThat(rejects.get(2)).contains("nothing behind it can be read");
    assertThat(raws.get(2)).isEqualTo("{\"par");
  }

  /** An element that does not end costs itself, where lines tell the elements apart. */
  @Test
  void aBrokenElementDoesNotTakeTheOthersAlong() throws IOException {
    parse(
        """
        [{"parcel":1,"gate":"a]},{\\"b"},
         {"parcel":2,"gate":"G07},
         {"parcel":3, "scanner": {"id": [1, {"x": "}"}]},
         {"parcel":4 "gate":"G08"}, true,
         {"parcel":5}
        ,{"parcel":6}]
        trailing""",
        EventParser.Format.JSON_ARRAY);
    assertThat(rows).extracting(r -> r.substring(1, 2)).containsExactly("1", "5", "6");
    assertThat(rejects)
        .satisfiesExactly(
            r -> assertThat(r).isEqualTo("2: broken JSON: it has no end"),
            r -> assertThat(r).isEqualTo("3: broken JSON: it has no end"),
            r -> assertThat(r).startsWith("4: broken JSON: "),
            r -> assertThat(r).isEqualTo("5: not a JSON object"));
    assertThat(raws.get(0)).isEqualTo("{\"parcel\":2,\"gate\":\"G07},");
    assertThat(raws.get(2)).isEqualTo("{\"parcel\":4 \"gate\":\"G08\"}");
  }

  /** The same array is read the same however it is laid out, and in pieces of any size. */
  @Test
  void layoutDoesNotMatter() throws IOException {
    StringBuilder body = new StringBuilder(" \n[");
    for (int i = 0; i < 30_000; i++) {
      body.append(i == 0 ? "" : i % 3 == 0 ? " ,\n" : ",")
          .append("{\"gate\": \"")
          .append("x\\\\".repeat(i % 7))
          .append("\",")
          .append(i % 5 == 0 ? "\n\n    " : "")
          .append("\"parcel\": ")
          .append(i)
          .append('}');
    }
    parse(body.append("]").toString(), EventParser.Format.JSON_ARRAY);
    assertThat(rejects).isEmpty();
    assertThat(rows).hasSize(30_000);
    assertThat(rows.get(29_999)).startsWith("[29999, " + "x\\".repeat(29_999 % 7));
  }

  @Test
  void csvNamesItsColumnsInTheFirstLine() throws IOException {
    parse(
        "gate,parcel,other\r\n\"G,07\",1,x\r\nG08,two,x\r\nG09,3\r\n,4,\r\n",
        EventParser.Format.CSV);
    assertThat(rows)
        .containsExactly("[1, G,07, null, null, null, null]", "[4, null, null, null, null, null]");
    assertThat(rejects)
        .containsExactly(
            "3: column parcel: \"two\" is not of type BIGINT",
            "4: the header names 3 columns, this line has 2");
  }

  @Test
  void aCsvBodyWithoutAUsefulHeaderIsOneError() {
    assertThatThrownBy(() -> parse("gatte,parzel\n1,2\n3,4\n", EventParser.Format.CSV))
        .isInstanceOf(FormatException.class)
        .hasMessage(
            "the header (gatte, parzel) names none of the columns:"
                + " parcel, gate, at, grams, price, scanner");
    assertThatThrownBy(() -> parse("", EventParser.Format.CSV))
        .hasMessageContaining("the header is missing");
    assertThat(rejects).isEmpty();
  }

  @Test
  void aStrayQuoteCostsItsOwnLine() throws IOException {
    parse("parcel,gate\n1,\"a\nb\"\n2,\"c\n3,d\n4,5\" e\n5,\"f\"\n", EventParser.Format.CSV);
    assertThat(rows).extracting(r -> r.substring(1, 2)).containsExactly("1", "3", "4", "5");
    assertThat(rejects).hasSize(1);
    assertThat(rejects.get(0)).startsWith("4: a quote that is not closed");
    assertThat(raws).containsExactly("2,\"c");
  }
}
