package dripledger.connectors.format;

/**
 * A record that was not taken.
 *
 * @param line the one-based line (NDJSON, CSV) or element (JSON array) it stands at
 * @param reason why, for the user
 * @param raw its text, cut after 200 characters
 */
public record Reject(long line, String reason, String raw) {
  private static final int SHOWN = 200;

  public Reject {
    raw = raw.length() > SHOWN ? raw.substring(0, SHOWN) + "…" : raw;
  }
}
