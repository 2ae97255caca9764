package dripledger.connectors.format;

import java.nio.charset.StandardCharsets;

/**
 * A record of a body that was not taken.
 *
 * @param line the one-based line (NDJSON, CSV) or element (JSON array) it stands at
 * @param reason why, for the user
 * @param bytes its bytes, where they are known
 */
public record BadRecord(long line, String reason, byte[] bytes) {
  private static final int SHOWN = 200;

  /** Its text, cut to a length that can be shown. */
  public String raw() {
    String text = new String(bytes, StandardCharsets.UTF_8);
    return text.length() > SHOWN ? text.substring(0, SHOWN) + "…" : text;
  }
}
