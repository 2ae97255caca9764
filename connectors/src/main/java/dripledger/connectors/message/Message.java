package dripledger.connectors.message;

import java.nio.charset.StandardCharsets;
import java.util.LinkedHashMap;
import java.util.Map;

/** One message on its way to a row; reused by its reader. Not thread-safe. */
public final class Message {
  /** The key's bytes, or null. */
  public byte[] key;

  /** The bytes that hold the value, or null if there is none. */
  public byte[] value;

  public int from;
  public int length;
  public int partition;

  /** Its place in the partition. */
  public long position;

  /** When it was written, in milliseconds since 1970; negative if not known. */
  public long timeMillis = -1;

  /** Its headers; may be empty. */
  public Map<String, String> headers = Map.of();

  /** Sets a value that is a whole array, or null. */
  public void value(byte[] bytes) {
    value = bytes;
    from = 0;
    length = bytes == null ? 0 : bytes.length;
  }

  /** Headers from their bytes. */
  public void header(String name, byte[] bytes) {
    if (headers.isEmpty()) {
      headers = new LinkedHashMap<>();
    }
    headers.put(name, bytes == null ? null : new String(bytes, StandardCharsets.UTF_8));
  }
}
