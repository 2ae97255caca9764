package dripledger.connectors.file;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.connectors.file.FilePosition.Place;
import dripledger.connectors.format.CsvLines;
import java.io.IOException;
import java.io.RandomAccessFile;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardOpenOption;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Random;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/** Records of files that grow, and files that are known again. */
class FileRecordsTest {
  @TempDir Path folder;

  private static long read(String format, Path file, long from, boolean ended, List<String> into)
      throws IOException {
    long position = from;
    try (FileRecords records = FileRecords.open(format, file, from, Long.MAX_VALUE, ended)) {
      while (records.next()) {
        into.add(new String(records.raw(), StandardCharsets.UTF_8));
        position = records.position();
      }
    }
    return position;
  }

  /** However the bytes of a file come, its records are the same; quotes hold lines together. */
  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3, 4, 5, 6})
  void recordsDoNotDependOnHowTheFileGrows(long seed) throws IOException {
    Random random = new Random(seed);
    StringBuilder text = new StringBuilder("parcel,note\r\n");
    List<List<String>> expected = new ArrayList<>();
    for (int i = 0; i < 300; i++) {
      String note =
          switch (random.nextInt(5)) {
            case 0 -> "two\nlines\nmore";
            case 1 -> "a \"quoted\" word";
            case 2 -> "ä".repeat(random.nextInt(40));
            case 3 -> "\n";
            default -> "plain";
          };
      expected.add(List.of("" + i, note));
      text.append(i).append(",\"").append(note.replace("\"", "\"\"")).append("\"\n");
    }
    byte[] bytes = text.toString().getBytes(StandardCharsets.UTF_8);
    Path file = folder.resolve("grown.csv");
    Files.write(file, new byte[0]);
    List<String> found = new ArrayList<>();
    long position = 0;
    for (int at = 0; at < bytes.length; ) {
      int to = Math.min(bytes.length, at + 1 + random.nextInt(400));
      Files.write(file, Arrays.copyOfRange(bytes, at, to), StandardOpenOption.APPEND);
      position = read("csv", file, position, false, found);
      at = to;
    }
    assertThat(found.stream().map(CsvLines::record).toList()).isEqualTo(expected);
  }

  /** Lines with a stray quote are refused alone, wherever they are; all others are read. */
  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3, 4})
  void strayQuotesCostTheirOwnLines(long seed) throws IOException {
    Random random = new Random(seed);
    List<String> lines = new ArrayList<>();
    for (int i = 0; i < 2000; i++) {
      lines.add(i + "," + (random.nextInt(50) == 0 ? "\"stray" : "note"));
    }
    Path file = folder.resolve("stray.csv");
    Files.writeString(file, "parcel,note\n" + String.join("\n", lines) + "\n");
    List<String> found = new ArrayList<>();
    assertThat(read("csv", file, 0, false, found)).isEqualTo(Files.size(file));
    assertThat(found).isEqualTo(lines);
  }

  /** A line longer than there may be is one bad record, and not the end of the file. */
  @Test
  void aLineWithoutAnEndIsBounded() throws IOException {
    Path file = folder.resolve("long.ndjson");
    try (RandomAccessFile out = new RandomAccessFile(file.toFile(), "rw")) {
      out.write("first\n".getBytes(StandardCharsets.UTF_8));
      out.seek(40L << 20);
      out.write("\nlast\n".getBytes(StandardCharsets.UTF_8));
    }
    try (FileRecords records = FileRecords.open("json", file, 0, Long.MAX_VALUE, false)) {
      assertThat(records.next()).isTrue();
      assertThat(records.next()).isTrue();
      assertThat(records.raw().length).isLessThan(17 << 20);
      assertThat(records.position()).isEqualTo((40L << 20) + 1);
      assertThat(records.next()).isTrue();
      assertThat(new String(records.raw(), StandardCharsets.UTF_8)).isEqualTo("last");
      assertThat(records.position()).isEqualTo(Files.size(file));
    }
  }

  /** A position says after a restart what it said before, and is made of what was known then. */
  @Test
  void positionsAreSnapshots() throws IOException {
    Path file = Files.writeString(folder.resolve("a"), "0123456789");
    FilePosition position = new FilePosition();
    for (int i = 0; i < 1000; i++) {
      position.put("f" + i, new Place(i, FilePrint.of(file, 5)));
    }
    var then = position.toPosition();
    position.put("f7", new Place(70, null));
    position.become(position.places());
    FilePosition again = new FilePosition(then);
    assertThat(again.places()).hasSize(1000);
    assertThat(again.of("f7").at()).isEqualTo(7);
    assertThat(again.of("f7").print().holds(file)).isTrue();
    assertThat(new FilePosition(position.toPosition()).of("f7")).isEqualTo(new Place(70, null));
    Files.writeString(file, "01x3456789");
    assertThat(again.of("f7").print().holds(file)).isFalse();
  }
}
