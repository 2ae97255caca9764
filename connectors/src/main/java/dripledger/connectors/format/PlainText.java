package dripledger.connectors.format;

import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import java.math.BigDecimal;
import java.time.LocalDateTime;
import java.util.Base64;

/** Values as plain text: numbers in full, times as ISO-8601 with Z, bytes base64. Stateless. */
public final class PlainText {
  private PlainText() {}

  /**
   * The text of a value.
   *
   * @param value as in {@link BoxedRows}, not null
   */
  public static String of(Object value) {
    if (value instanceof BigDecimal d) {
      return d.toPlainString();
    }
    if (value instanceof Double d) {
      return Casts.text(d);
    }
    if (value instanceof LocalDateTime t) {
      return Casts.isoTimestamp(BoxedRows.micros(t));
    }
    return value instanceof byte[] b ? Base64.getEncoder().encodeToString(b) : value.toString();
  }
}
