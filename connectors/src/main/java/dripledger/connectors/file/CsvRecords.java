package dripledger.connectors.file;

import dripledger.connectors.format.CsvLines;
import dripledger.connectors.format.FormatException;
import dripledger.connectors.message.Message;
import dripledger.connectors.message.MessageReader;
import dripledger.engine.row.Page;
import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.util.List;

/**
 * CSV records of a file, whose first line is the header. A record may go over several lines within
 * quotes. Where that gives no record of the header's length, a quote was a stray one: then only the
 * first line is refused, and the next is read as a record of its own. Not thread-safe.
 */
final class CsvRecords implements FileRecords {
  private final TextLines lines;
  private final long to;
  private final boolean settled;
  private List<String> header; // null while there is not even that
  private List<String> fields; // of the record moved to, or null
  private String broken; // why there are none

  /**
   * @param settled whether nobody writes the file any more, as far as can be told
   */
  CsvRecords(TextLines lines, long from, long to, boolean settled) throws IOException {
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

  @Override
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

  /**
   * Whether a quote that is open at the end of the file has held whole records: it was no quote.
   */
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

  @Override
  public void check(MessageReader reader) {
    if (header != null) {
      reader.checkCsv(header);
    }
  }

  @Override
  public long position() {
    return lines.position();
  }

  @Override
  public void read(MessageReader reader, Message message, Page into) {
    if (broken != null) {
      throw new FormatException(broken);
    }
    reader.readCsv(fields, header, message, into);
  }

  @Override
  public byte[] raw() {
    return lines.copy();
  }

  @Override
  public void close() throws IOException {
    lines.close();
  }
}
