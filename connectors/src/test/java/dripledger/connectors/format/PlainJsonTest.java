package dripledger.connectors.format;

import static java.nio.charset.StandardCharsets.UTF_8;
import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.catalog.Origins;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collections;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;
import tools.jackson.core.JsonParser;
import tools.jackson.core.ObjectReadContext;
import tools.jackson.core.json.JsonFactory;

/** What is read without the parser is what the parser reads. */
class PlainJsonTest {
  private static final Schema SCANNER =
      Schema.of(
          new Column("id", ColumnType.varchar(-1)),
          new Column("battery", ColumnType.of(Kind.DOUBLE)));
  private static final Schema SCHEMA =
      Schema.of(
          new Column("parcel", ColumnType.of(Kind.BIGINT)),
          new Column("gate", ColumnType.varchar(-1)),
          new Column("short", ColumnType.varchar(4)),
          new Column("at", ColumnType.of(Kind.TIMESTAMP)),
          new Column("grams", ColumnType.of(Kind.INTEGER)),
          new Column("step", ColumnType.of(Kind.SMALLINT)),
          new Column("width", ColumnType.of(Kind.REAL)),
          new Column("fee", ColumnType.decimal(9, 2)),
          new Column("fragile", ColumnType.of(Kind.BOOLEAN)),
          new Column("day", ColumnType.of(Kind.DATE)),
          new Column("größe", ColumnType.of(Kind.DOUBLE)),
          new Column("scanner", ColumnType.row(SCANNER.columns())));
  private static final List<String> VALUES =
      List.of(
          "0",
          "-0",
          "7",
          "-12",
          "007",
          "32768",
          "2147483647",
          "2147483648",
          "999999999999999999",
          "1234567890123456789",
          "1772432049120",
          "9300000000000000",
          "0.1",
          "-0.0",
          "12.0",
          "12.345",
          "0.30000000000000004",
          "9007199254740993",
          "1e3",
          "1.5E-7",
          "1.",
          ".5",
          "--1",
          "+1",
          "\"\"",
          "\"G07\"",
          "\"12\"",
          "\"12.5\"",
          "\" 12\"",
          "\"0x1\"",
          "\"NaN\"",
          "\"Quillhaven Süd\"",
          "\"\uD83D\uDCE6\"",
          "\"\u20AC\u20AC\"",
          "\"a\\nb\"",
          "\"\\u00fc\"",
          "\"a\tb\"",
          "\"2026-03-02T06:14:09.120Z\"",
          "\"2026-03-02 06:14:09\"",
          "\"2026-02-30T06:14:09Z\"",
          "\"2026-03-02T06:14:09+02:00\"",
          "\"2026-03-02\"",
          "true",
          "false",
          "null",
          "nul",
          "True",
          "{}",
          "{ }",
          "[]",
          "[1,\"a\",{\"b\":[ ]}]",
          "[1,]",
          "{\"id\":\"S-31\",\"battery\":0.82}",
          "{\"battery\":\"0.5\",\"more\":{\"a\":[1,2]}}",
          "{\"id\":7,\"battery\":null,}",
          "{\"id\" \"x\"}");

  /** One of a kind that fits each column. */
  private static final List<String> FITTING =
      List.of(
          "812345",
          "\"G07\"",
          "\"Süd\"",
          "\"2026-03-02T06:14:09.12Z\"",
          "-4210",
          "12",
          "0.5",
          "\"7.25\"",
          "true",
          "null",
          "1.25",
          "{\"id\":\"S-31\",\"battery\":0.82}");

  private final JsonFactory factory = new JsonFactory();
  private final RowLayout layout = new RowLayout(SCHEMA);

  private List<Object> row(RowBuilder builder) {
    Page page = new Page(layout, 1);
    builder.write(page.begin(), false);
    page.commit(1);
    List<Object> values = new ArrayList<>();
    for (int i = 0; i < SCHEMA.size(); i++) {
      values.add(BoxedRows.readColumn(layout, page.bytes(), page.start(0), i));
    }
    return values;
  }

  /** By the parser; null if it refuses the message. */
  private List<Object> parsed(byte[] message, DriftLog drift) {
    JsonDecoder decoder = new JsonDecoder(SCHEMA, Origins.NONE, drift);
    RowBuilder into = new RowBuilder(SCHEMA);
    try (JsonParser parser =
        factory.createParser(ObjectReadContext.empty(), message, 0, message.length)) {
      parser.nextToken();
      decoder.readObject(parser, into);
      return parser.nextToken() == null ? row(into) : null;
    } catch (RuntimeException e) {
      return null;
    }
  }

  /** Without it, twice, as the second time the order of fields is known; null if it gives up. */
  private List<Object> plain(byte[] message, int from, int length, DriftLog drift) {
    PlainJson plain = new PlainJson(SCHEMA, FieldTree.of(SCHEMA, Origins.NONE), drift);
    RowBuilder into = new RowBuilder(SCHEMA);
    if (!plain.read(message, from, length, into)) {
      return null;
    }
    List<Object> first = row(into);
    into.clear();
    assertThat(plain.read(message, from, length, into)).isTrue();
    assertThat(row(into)).isEqualTo(first);
    return first;
  }

  private static String space(Random random) {
    return random.nextInt(8) > 0 ? "" : List.of(" ", "\n", "\t ", "\r").get(random.nextInt(4));
  }

  private static String value(String name, Random random) {
    int column = SCHEMA.columns().stream().map(Column::name).toList().indexOf(name);
    return column >= 0 && random.nextInt(3) > 0
        ? FITTING.get(column)
        : VALUES.get(random.nextInt(VALUES.size()));
  }

  private static String message(Random random) {
    List<String> names = new ArrayList<>(SCHEMA.columns().stream().map(Column::name).toList());
    names.addAll(List.of("site", "belt", "parcel", "a\\u0062"));
    Collections.shuffle(names, random);
    StringBuilder text = new StringBuilder(space(random)).append('{');
    int fields = random.nextInt(5);
    for (int i = 0; i < fields; i++) {
      text.append(i == 0 ? "" : ",")
          .append(space(random))
          .append('"')
          .append(names.get(i))
          .append('"')
          .append(space(random))
          .append(':')
          .append(space(random))
          .append(value(names.get(i), random))
          .append(space(random));
    }
    return text.append('}').append(space(random)).toString();
  }

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void whatIsTakenIsWhatTheParserTakes(long seed) {
    Random random = new Random(seed);
    int taken = 0;
    int refused = 0;
    for (int i = 0; i < 60_000; i++) {
      byte[] message = message(random).getBytes(UTF_8);
      if (i % 3 == 0) { // broken somewhere, most likely
        message[random.nextInt(message.length)] = (byte) random.nextInt(256);
      } else if (i % 7 == 0) {
        message = Arrays.copyOf(message, random.nextInt(message.length));
      }
      byte[] within = new byte[message.length + 7];
      Arrays.fill(within, (byte) '1');
      System.arraycopy(message, 0, within, 3, message.length);
      List<Object> plain = plain(within, 3, message.length, null);
      if (plain == null) {
        refused++;
      } else {
        taken++;
        assertThat(plain)
            .as(new String(message, StandardCharsets.UTF_8))
            .isEqualTo(parsed(message, null));
      }
    }
    assertThat(taken).as("taken, not refused: " + refused).isGreaterThan(10_000);
  }

  /** Fields that are missing, come again or in another order, all read by one. */
  @Test
  void fieldsMayBeMissingOrComeInAnotherOrder() {
    Random random = new Random(8);
    PlainJson plain = new PlainJson(SCHEMA, FieldTree.of(SCHEMA, Origins.NONE), null);
    RowBuilder into = new RowBuilder(SCHEMA);
    for (int i = 0; i < 5_000; i++) {
      List<String> fields = new ArrayList<>();
      for (int c = 0; c < SCHEMA.size(); c++) {
        String field = "\"" + SCHEMA.column(c).name() + "\":" + FITTING.get(c);
        Collections.addAll(fields, field, "\"site " + random.nextInt(2000) + "\":[" + c + "]");
      }
      fields.removeIf(f -> random.nextInt(4) == 0);
      if (i % 5 == 0) {
        Collections.shuffle(fields, random);
      }
      if (i % 7 == 0) {
        fields.add("\"parcel\":" + i);
      }
      byte[] message = ("{" + String.join(",", fields) + "}").getBytes(UTF_8);
      into.clear();
      assertThat(plain.read(message, 0, message.length, into)).isTrue();
      assertThat(row(into)).isEqualTo(parsed(message, null));
    }
  }

  /** Every byte of a text that need not be escaped, and every pair and triple from the edges. */
  @Test
  void textIsTakenIfItIsWellFormed() {
    int[] edges = {
      0x20, 0x22, 0x41, 0x7F, 0x80, 0x8F, 0x90, 0x9F, 0xA0, 0xBF, 0xC0, 0xC1, 0xC2, 0xDF, 0xE0,
      0xE1, 0xEC, 0xED, 0xEE, 0xEF, 0xF0, 0xF1, 0xF3, 0xF4, 0xF5, 0xFF
    };
    int taken = 0;
    for (int a : edges) {
      for (int b : edges) {
        for (int c : edges) {
          for (int d : edges) {
            byte[] text = {(byte) a, (byte) b, (byte) c, (byte) d};
            String name = "{\"gate\":\"";
            byte[] message = Arrays.copyOf(name.getBytes(UTF_8), name.length() + 6);
            System.arraycopy(text, 0, message, name.length(), 4);
            message[message.length - 2] = '"';
            message[message.length - 1] = '}';
            List<Object> plain = plain(message, 0, message.length, null);
            String decoded = new String(text, UTF_8);
            boolean wellFormed = Arrays.equals(decoded.getBytes(UTF_8), text);
            if (plain != null) {
              assertThat(wellFormed).as(decoded).isTrue();
              assertThat(plain.get(1)).isEqualTo(decoded);
              taken++;
            } else if (wellFormed) {
              assertThat(decoded).contains("\"");
            }
          }
        }
      }
    }
    assertThat(taken).isGreaterThan(1000);
  }

  @Test
  void doublesAreTheNearest() {
    Random random = new Random(5);
    for (int i = 0; i < 50_000; i++) {
      long digits = random.nextLong(1L << 1 + random.nextInt(53));
      String number = java.math.BigDecimal.valueOf(digits, random.nextInt(17)).toPlainString();
      byte[] message = ("{\"größe\":" + number + "}").getBytes(UTF_8);
      List<Object> plain = plain(message, 0, message.length, null);
      if (plain != null) {
        assertThat(plain.get(10)).as(number).isEqualTo(Double.parseDouble(number));
      } else {
        assertThat(number.length()).as(number).isGreaterThan(18);
      }
    }
  }

  @Test
  void whatIsNotDeclaredIsCountedOnce() {
    DriftLog drift = new DriftLog(List.of());
    JsonDecoder decoder = new JsonDecoder(SCHEMA, Origins.NONE, drift);
    RowBuilder into = new RowBuilder(SCHEMA);
    for (int i = 0; i < 100; i++) {
      String escaped = i % 10 == 9 ? ",\"gate\":\"\\u0041\"" : ",\"gate\":\"A\"";
      byte[] message = ("{\"site\":\"q\",\"belt\":{\"n\":[4]}" + escaped + "}").getBytes(UTF_8);
      into.clear();
      decoder.decode(message, 0, message.length, into);
      assertThat(row(into).get(1)).isEqualTo("A");
    }
    assertThat(drift.all().stream().map(d -> d.field() + " " + d.count()))
        .containsExactlyInAnyOrder("site 100", "belt 100");
  }

  /** A stream that never is as most are costs little more than without the attempt. */
  @Test
  void itTriesSeldomWhatItNeverCanRead() {
    PlainJson plain = new PlainJson(SCHEMA, FieldTree.of(SCHEMA, Origins.NONE), null);
    RowBuilder into = new RowBuilder(SCHEMA);
    byte[] never = "{\"gate\":\"\\u0041\"}".getBytes(UTF_8);
    byte[] always = "{\"gate\":\"A\"}".getBytes(UTF_8);
    for (int i = 0; i < 10_000; i++) {
      assertThat(plain.read(never, 0, never.length, into)).isFalse();
    }
    int until = 0;
    while (!plain.read(always, 0, always.length, into)) {
      until++;
    }
    assertThat(until).isBetween(1, 1024);
    assertThat(plain.read(always, 0, always.length, into)).isTrue();
  }
}
