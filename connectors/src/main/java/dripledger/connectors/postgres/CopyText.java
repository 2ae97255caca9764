package dripledger.connectors.postgres;

import dripledger.connectors.format.JsonRows;
import dripledger.connectors.format.PlainText;
import java.util.HexFormat;
import java.util.List;

/** Values as the fields of COPY's text form. Stateless. */
final class CopyText {
  private CopyText() {}

  /**
   * A value's field.
   *
   * @param value as in {@link dripledger.engine.row.BoxedRows}, or null
   */
  static String of(Object value) {
    StringBuilder out = new StringBuilder();
    append(out, value);
    return out.toString();
  }

  /** Puts a value's field behind others. */
  static void append(StringBuilder out, Object value) {
    if (value == null) {
      out.append("\\N");
    } else if (value instanceof Long number) {
      out.append(number.longValue());
    } else if (value instanceof Boolean b) {
      out.append(b ? 't' : 'f');
    } else if (value instanceof byte[] bytes) {
      out.append("\\\\x").append(HexFormat.of().formatHex(bytes));
    } else {
      escaped(out, value instanceof List<?> list ? JsonRows.text(list) : PlainText.of(value));
    }
  }

  private static void escaped(StringBuilder out, String text) {
    int from = 0;
    for (int i = 0; i < text.length(); i++) {
      char letter =
          switch (text.charAt(i)) {
            case '\\' -> '\\';
            case '\t' -> 't';
            case '\n' -> 'n';
            case '\r' -> 'r';
            default -> 0;
          };
      if (letter != 0) {
        out.append(text, from, i).append('\\').append(letter);
        from = i + 1;
      }
    }
    out.append(text, from, text.length());
  }
}
