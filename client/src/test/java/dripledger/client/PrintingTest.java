package dripledger.client;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.PrintStream;
import java.nio.charset.StandardCharsets;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.Test;

class PrintingTest {
  private final ByteArrayOutputStream bytes = new ByteArrayOutputStream();
  private final PrintStream out = new PrintStream(bytes, true, StandardCharsets.UTF_8);

  private String printed() {
    return bytes.toString(StandardCharsets.UTF_8).replace(System.lineSeparator(), "\n");
  }

  private static Map<String, Object> column(String name, String type) {
    return Map.of("name", name, "type", type);
  }

  private static Map<String, Object> result() {
    Map<String, Object> result = new LinkedHashMap<>();
    result.put("kind", "rows");
    result.put("columns", List.of(column("gate", "VARCHAR"), column("scans", "BIGINT")));
    result.put("rows", List.of(Arrays.asList("G07", 12), Arrays.asList(null, 3456)));
    result.put("epoch", 9);
    result.put("elapsed_ms", 1.5);
    return result;
  }

  @Test
  void numbersStandToTheRight() throws IOException {
    new Output(Output.Format.table, out).result(result());
    assertThat(printed())
        .isEqualTo(
            """
            gate  scans
            ───────────
            G07      12
            ·      3456

            2 rows · epoch 9 · 1.5 ms
            """);
  }

  @Test
  void intervalsAreReadAsClocksAre() throws IOException {
    Map<String, Object> result = result();
    result.put("columns", List.of(column("took", "INTERVAL DAY TO SECOND")));
    result.put(
        "rows",
        List.of(
            List.of("PT6H15M42.865S"), List.of("PT-49H-0.5S"), List.of("PT24H"), List.of("PT0S")));
    new Output(Output.Format.table, out).result(result);
    assertThat(printed().lines().limit(6))
        .containsExactly(
            "              took",
            "──────────────────",
            "      06:15:42.865",
            "-2 days 01:00:00.5",
            "    1 day 00:00:00",
            "          00:00:00");
  }

  @Test
  void csvQuotesWhatNeedsIt() throws IOException {
    assertThat(Output.csv(Arrays.asList("a,b", "say \"hi\"", null, 5, "two\nlines")))
        .isEqualTo("\"a,b\",\"say \"\"hi\"\"\",,5,\"two\nlines\"");
    new Output(Output.Format.csv, out).result(result());
    assertThat(printed()).isEqualTo("gate,scans\nG07,12\n,3456\n");
  }

  @Test
  void jsonKeepsNulls() throws IOException {
    new Output(Output.Format.json, out).result(result());
    assertThat(printed())
        .isEqualTo("{\"gate\":\"G07\",\"scans\":12}\n{\"gate\":null,\"scans\":3456}\n");
  }

  @Test
  void timesLoseTheirLettersAndLongTextItsEnd() {
    assertThat(TextTable.cell("2026-03-02T06:14:09.120Z")).isEqualTo("2026-03-02 06:14:09.120");
    assertThat(TextTable.cell("x".repeat(200))).hasSize(90).endsWith("…");
    assertThat(TextTable.cell("a\nb\tc")).isEqualTo("a⏎b c");
  }

  @Test
  void aProblemShowsItsPlace() {
    Problem problem =
        Problem.of(
            Map.of(
                "detail",
                "no column \"b\" here",
                "line",
                2,
                "column",
                3,
                "hint",
                "did you mean \"a\"?"));
    problem.print(out, "SELECT\n\tab b\nFROM t");
    assertThat(printed())
        .isEqualTo(
            """
               ab b
                ^
            line 2, column 3: no column "b" here
            hint: did you mean "a"?
            """);
    assertThat(problem.exitCode()).isEqualTo(1);
  }

  @Test
  void aProblemWithoutAPlaceIsASentence() {
    Problem.of(Map.of("title", "Refused")).print(out, "SELECT 1");
    assertThat(printed()).isEqualTo("Refused\n");
  }

  @Test
  void aLongLineIsShownAroundItsPlace() {
    Problem.of(Map.of("detail", "d", "line", 1, "column", 150))
        .print(out, "x".repeat(149) + "Y" + "z".repeat(100));
    assertThat(printed().lines().toList().get(0)).hasSizeLessThan(110).contains("Y");
    assertThat(printed().lines().toList().get(1).indexOf('^'))
        .isEqualTo(printed().lines().toList().get(0).indexOf('Y'));
  }

  @Test
  void followIsRecognised() {
    assertThat(FollowCommand.isFollow("  follow select 1")).isTrue();
    assertThat(FollowCommand.isFollow("SELECT 1")).isFalse();
    assertThat(Service.encode("a b+c&d")).isEqualTo("a%20b%2Bc%26d");
  }

  @Test
  void timesOfAColumnHaveAsManyDigitsAndTheZoneIsSaidOnce() throws IOException {
    Map<String, Object> result = result();
    result.put("columns", List.of(column("at", "TIMESTAMP")));
    result.put(
        "rows",
        List.of(
            Arrays.asList("2026-03-02T06:14:09Z"),
            Arrays.asList("2026-03-02T06:14:09.12Z"),
            Arrays.asList((Object) null)));
    new Output(Output.Format.table, out).result(result);
    assertThat(printed())
        .isEqualTo(
            """
            at
            ───────────────────────
            2026-03-02 06:14:09.000
            2026-03-02 06:14:09.120
            ·

            3 rows · epoch 9 · 1.5 ms · times in UTC
            """);
  }
}
