package dripledger.connectors.format;

import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.util.List;

/**
 * CSV records of a text, whose first line is the header. A record may go over several lines within
 * quotes. Where that gives no record of the header's length, a quote was a stray one: then only the
 * first line is refused, and the next is read as a record of its own. Not thread-safe.
 */
public final class CsvText {
  private final TextLines lines;
  private final long to;
  private final boolean settled;
  private List<String> header; // null while there is not even that
  private List<String> fields; // of the record moved to, or null
  private String broken; // why there are none

  /**
   * @param lines with quotes
   * @param from where to go on behind the header
   * @param to where to end
   * @param settled whether nobody writes the text any more, as far as can be told
   */
  public CsvText(TextLines lines, long from, long to, boolean settled) throws IOException {
    this.lines = lines;
    this.to = to;
    this.settled = settled;
    if (lines.next()) {
      lines.refuseTooLong();
      header = CsvLines.record(text()).stream().map(String::strip).toList();
    }
    if (from > lines.position()) {
      lines.seek(from);
    }
  }

  private String text() {
    return new String(lines.bytes(), lines.from(), lines.length(), StandardCharsets.UTF_8);
  }

  /** The fields' names, or null while there is not even a header. */
  public List<String> header() {
    return header;
  }

  /** Moves to the next record; false at the end of what is complete. */
  public boolean next() throws IOException {
    if (header == null) {
      return false;
    }
    while (lines.position() < to && (lines.next() || stray())) {
      if (lines.length() > 0) {
        parse();
        if (broken != null && lines.cut()) {
          parse();
          broken = "a quote that is not closed, or more in it than the header has columns for";
        }
        return true;
      }
    }
    return false;
  }

  /** Whether a quote that is open at the end has held whole records: it was no quote. */
  private boolean stray() {
    byte[] unclosed = lines.unclosed();
    if (unclosed == null) {
      return false;
    }
    String text = new String(unclosed, StandardCharsets.UTF_8);
    List<String> whole = text.substring(0, text.lastIndexOf('\n')).lines().skip(1).toList();
    return (settled || !whole.isEmpty() && whole.stream().allMatch(this::isRecord))
        && lines.takeFirst();
  }

  private boolean isRecord(String line) {
    try {
      return header.size() > 1 && CsvLines.record(line).size() == header.size();
    } catch (FormatException e) {
      return false;
    }
  }

  private void parse() {
    fields = null;
    broken = null;
    try {
      lines.refuseTooLong();
      List<String> record = CsvLines.record(text());
      if (record.size() == header.size()) {
        fields = record;
      } else {
        broken = "the header names " + header.size() + " columns, this line has " + record.size();
      }
    } catch (FormatException e) {
      broken = e.getMessage();
    }
  }

  /** Where to go on after the record moved to. */
  public long position() {
    return lines.position();
  }

  /** The number of the record's first line. */
  public long number() {
    return lines.number();
  }

  /**
   * The fields of the record moved to, as many as the header names.
   *
   * @throws FormatException if there is no such record in the line
   */
  public List<String> fields() {
    if (broken != null) {
      throw new FormatException(broken);
    }
    return fields;
  }

  /** A copy of the record's bytes. */
  public byte[] raw() {
    return lines.copy();
  }
}
