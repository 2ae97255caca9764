package dripledger.connectors.format;

import java.io.IOException;
import java.io.StringReader;
import java.util.List;
import org.apache.commons.csv.CSVParser;

/** Single CSV records out of their text. Stateless. */
public final class CsvLines {
  private CsvLines() {}

  /**
   * The fields of a record.
   *
   * @throws FormatException if it is broken
   */
  public static List<String> record(String line) {
    try (CSVParser parser =
        CSVParser.builder().setReader(new StringReader(line)).setFormat(CsvDecoder.FORMAT).get()) {
      return parser.iterator().next().toList();
    } catch (IOException | RuntimeException e) {
      throw new FormatException("broken CSV: " + e.getMessage());
    }
  }
}
