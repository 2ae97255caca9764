package dripledger.connectors.postgres;

import java.nio.ByteBuffer;
import java.nio.charset.StandardCharsets;

/**
 * Reads the messages of the {@code pgoutput} plug-in, protocol version 1 (PostgreSQL documentation,
 * "Logical Replication Message Formats"). A message is read in place; tuples are visited column by
 * column. Not thread-safe.
 */
final class PgOutput {
  /** One column of a tuple: {@code n} null, {@code u} unchanged and not sent, {@code t} text. */
  @FunctionalInterface
  interface TupleSink {
    void column(int index, char kind, byte[] bytes, int from, int length);
  }

  /** What the messages say. */
  interface Handler {
    /**
     * A transaction begins that was committed at this place.
     *
     * @param micros when it was committed, in microseconds since 1970
     */
    void begin(long commitLsn, long micros);

    /** It ends; {@code endLsn} is where to go on. */
    void commit(long endLsn);

    void relation(
        int id,
        String schema,
        String name,
        char identity,
        String[] columns,
        int[] types,
        int[] modifiers,
        boolean[] keys);

    void insert(int relation, Tuple row);

    /**
     * A row was changed.
     *
     * @param oldKind {@code K} (old key), {@code O} (old row) or 0 (the key is the same)
     */
    void update(int relation, char oldKind, Tuple old, Tuple row);

    void delete(int relation, Tuple old);

    void truncate(int[] relations);

    /** A message written into the log by somebody; {@code lsn} is its place. */
    void message(long lsn, String prefix);
  }

  /** The columns of a row, as a part of the message; valid during the call. */
  static final class Tuple {
    private byte[] bytes;
    private int at;
    private int columns;
    private int end;

    void visit(TupleSink sink) {
      int place = at;
      for (int i = 0; i < columns; i++) {
        char kind = (char) bytes[place++];
        int length = 0;
        if (kind == 't' || kind == 'b') {
          length =
              (bytes[place] & 0xFF) << 24
                  | (bytes[place + 1] & 0xFF) << 16
                  | (bytes[place + 2] & 0xFF) << 8
                  | bytes[place + 3] & 0xFF;
          place += 4;
        }
        sink.column(i, kind, bytes, place, length);
        place += length;
      }
      end = place;
    }
  }

  /** Where the times of messages begin, in microseconds since 1970. */
  private static final long SINCE_2000 = 946_684_800_000_000L;

  private final Handler handler;
  private final Tuple old = new Tuple();
  private final Tuple row = new Tuple();

  PgOutput(Handler handler) {
    this.handler = handler;
  }

  /** Reads one message. */
  void read(ByteBuffer in) {
    char type = (char) in.get();
    switch (type) {
      case 'B' -> handler.begin(in.getLong(), in.getLong() + SINCE_2000);
      case 'C' -> {
        in.get();
        in.getLong();
        handler.commit(in.getLong());
      }
      case 'R' -> relation(in);
      case 'I' -> {
        int relation = in.getInt();
        in.get();
        tuple(in, row);
        handler.insert(relation, row);
      }
      case 'U' -> {
        int relation = in.getInt();
        char kind = (char) in.get();
        char oldKind = 0;
        if (kind == 'K' || kind == 'O') {
          oldKind = kind;
          tuple(in, old);
          in.get();
        }
        tuple(in, row);
        handler.update(relation, oldKind, old, row);
      }
      case 'D' -> {
        int relation = in.getInt();
        in.get();
        tuple(in, old);
        handler.delete(relation, old);
      }
      case 'T' -> {
        int[] relations = new int[in.getInt()];
        in.get();
        for (int i = 0; i < relations.length; i++) {
          relations[i] = in.getInt();
        }
        handler.truncate(relations);
      }
      case 'M' -> {
        in.get();
        long lsn = in.getLong();
        handler.message(lsn, text(in));
      }
      default -> {
        // Origin and type messages say nothing that rows depend on.
      }
    }
  }

  private void relation(ByteBuffer in) {
    int id = in.getInt();
    String schema = text(in);
    String name = text(in);
    char identity = (char) in.get();
    int n = in.getShort();
    String[] names = new String[n];
    int[] types = new int[n];
    int[] modifiers = new int[n];
    boolean[] keys = new boolean[n];
    for (int i = 0; i < n; i++) {
      keys[i] = in.get() == 1;
      names[i] = text(in);
      types[i] = in.getInt();
      modifiers[i] = in.getInt();
    }
    handler.relation(id, schema, name, identity, names, types, modifiers, keys);
  }

  private static String text(ByteBuffer in) {
    int from = in.position();
    while (in.get() != 0) {
      // to the end of the name
    }
    return new String(
        in.array(), in.arrayOffset() + from, in.position() - 1 - from, StandardCharsets.UTF_8);
  }

  private static void tuple(ByteBuffer in, Tuple tuple) {
    tuple.columns = in.getShort();
    tuple.bytes = in.array();
    tuple.at = in.arrayOffset() + in.position();
    tuple.visit((index, kind, bytes, from, length) -> {});
    in.position(tuple.end - in.arrayOffset());
  }
}
