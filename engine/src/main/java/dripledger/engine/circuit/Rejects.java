package dripledger.engine.circuit;

import dripledger.engine.row.RowLayout;
import java.io.DataInputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.nio.ByteBuffer;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/**
 * Rows a circuit cannot compute: how many there are now, and the first of them with their reasons.
 * A row taken out again is gone from here too. Within an epoch it may be taken out before it is put
 * in, so weights may be below zero for a moment. Written by the epoch loop, read from any thread.
 *
 * <p>At most {@value #KEPT} rows of {@value #KEPT_BYTES} bytes are kept; more are only counted.
 */
public final class Rejects {
  static final int KEPT = 200;
  static final int KEPT_BYTES = 128 << 10;

  private static final int MAX_REASON_CHARS = 1000;

  private record Place(String step, RowLayout layout) {}

  private record Key(int place, ByteBuffer row) {}

  private static final class Failing {
    final String reason;
    final long atMillis;
    long weight;

    Failing(String reason, long atMillis) {
      this.reason = reason;
      this.atMillis = atMillis;
    }
  }

  private final List<Place> places = new ArrayList<>();
  private final Map<Key, Failing> kept = new LinkedHashMap<>();
  private long keptBytes;
  private long count;
  private boolean all = true; // whether every row that fails is among the kept

  /**
   * A row that fails.
   *
   * @param step the step of the plan that fails on it
   * @param layout of the row, as the step gets it
   * @param weight how many times it is there
   * @param atMillis when it failed first, in milliseconds since 1970
   */
  public record Row(
      String step, RowLayout layout, byte[] row, long weight, String reason, long atMillis) {}

  /** Names a step that can fail, in the order of the circuit; answers its number. */
  int place(String step, RowLayout layout) {
    places.add(new Place(step, layout));
    return places.size() - 1;
  }

  /** Counts a change whose row failed. */
  synchronized void add(int place, byte[] bytes, int start, long weight, RuntimeException cause) {
    count += weight;
    int length = places.get(place).layout.length(bytes, start);
    Key key = new Key(place, ByteBuffer.wrap(bytes, start, length));
    Failing known = kept.get(key);
    if (known != null) {
      known.weight += weight;
      if (known.weight == 0) {
        kept.remove(key);
        keptBytes -= length;
      }
    } else if (kept.size() < KEPT && keptBytes + length <= KEPT_BYTES && (all || weight > 0)) {
      byte[] own = Arrays.copyOfRange(bytes, start, start + length);
      put(place, own, weight, reason(cause), System.currentTimeMillis());
    } else {
      all = false;
    }
    if (count == 0 && !all) { // from here on the books are whole again
      kept.clear();
      keptBytes = 0;
      all = true;
    }
  }

  private void put(int place, byte[] row, long weight, String reason, long atMillis) {
    Failing failing = new Failing(reason, atMillis);
    failing.weight = weight;
    kept.put(new Key(place, ByteBuffer.wrap(row)), failing);
    keptBytes += row.length;
  }

  private static String reason(RuntimeException cause) {
    String message = cause.getMessage();
    String text = message == null ? cause.getClass().getSimpleName() : message;
    return text.length() > MAX_REASON_CHARS ? text.substring(0, MAX_REASON_CHARS) : text;
  }

  /** How many rows fail now. */
  public synchronized long count() {
    return count;
  }

  /** The rows kept, the longest failing first. */
  public synchronized List<Row> rows() {
    List<Row> rows = new ArrayList<>();
    kept.forEach(
        (key, f) -> {
          if (f.weight > 0) {
            Place place = places.get(key.place);
            rows.add(
                new Row(place.step, place.layout, key.row.array(), f.weight, f.reason, f.atMillis));
          }
        });
    return rows;
  }

  /** The reasons of the rows kept, each once. */
  public List<String> reasons() {
    return rows().stream().map(Row::reason).distinct().toList();
  }

  /** Writes everything for a checkpoint. */
  synchronized void save(DataOutputStream out) throws IOException {
    out.writeLong(count);
    out.writeBoolean(all);
    out.writeInt(kept.size());
    for (Map.Entry<Key, Failing> e : kept.entrySet()) {
      out.writeInt(e.getKey().place);
      out.writeLong(e.getValue().weight);
      out.writeUTF(e.getValue().reason);
      out.writeLong(e.getValue().atMillis);
      out.writeInt(e.getKey().row.array().length);
      out.write(e.getKey().row.array());
    }
  }

  /** Becomes what was saved. */
  synchronized void restore(DataInputStream in) throws IOException {
    kept.clear();
    keptBytes = 0;
    count = in.readLong();
    all = in.readBoolean();
    for (int n = in.readInt(); n > 0; n--) {
      int place = in.readInt();
      long weight = in.readLong();
      String reason = in.readUTF();
      long atMillis = in.readLong();
      put(place, in.readNBytes(in.readInt()), weight, reason, atMillis);
    }
  }
}
