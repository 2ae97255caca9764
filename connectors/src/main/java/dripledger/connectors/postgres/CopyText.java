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
    if (value == null) {
      return "\\N";
    }
    if (value instanceof Boolean b) {
      return b ? "t" : "f";
    }
    if (value instanceof byte[] bytes) {
      return "\\\\x" + HexFormat.of().formatHex(bytes);
    }
    return escaped(value instanceof List<?> list ? JsonRows.text(list) : PlainText.of(value));
  }

  private static String escaped(String text) {
    StringBuilder out = null;
    for (int i = 0; i < text.length(); i++) {
      char c = text.charAt(i);
      String escape =
          switch (c) {
            case '\\' -> "\\\\";
            case '\t' -> "\\t";
            case '\n' -> "\\n";
            case '\r' -> "\\r";
            default -> null;
          };
      if (escape != null && out == null) {
        out = new StringBuilder(text.length() + 8).append(text, 0, i);
      }
      if (out != null) {
        out.append(escape == null ? String.valueOf(c) : escape);
      }
    }
    return out == null ? text : out.toString();
  }
}
