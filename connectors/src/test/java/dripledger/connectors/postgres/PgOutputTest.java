package dripledger.connectors.postgres;

import static java.nio.charset.StandardCharsets.UTF_8;
import static org.assertj.core.api.Assertions.assertThat;

import java.io.ByteArrayOutputStream;
import java.io.DataOutputStream;
import java.io.IOException;
import java.nio.ByteBuffer;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import org.junit.jupiter.api.Test;

/** Messages laid out by hand as PostgreSQL's documentation of the protocol says. */
class PgOutputTest {
  private final List<String> said = new ArrayList<>();
  private final PgOutput decoder = new PgOutput(new Note());

  private final class Note implements PgOutput.Handler {
    @Override
    public void begin(long commitLsn, long micros) {
      said.add("begin " + commitLsn + " at " + micros);
    }

    @Override
    public void commit(long endLsn) {
      said.add("commit " + endLsn);
    }

    @Override
    public void relation(
        int id,
        String schema,
        String name,
        char identity,
        String[] columns,
        int[] types,
        int[] modifiers,
        boolean[] keys) {
      said.add(
          "relation %d %s.%s %s %s %s %s %s"
              .formatted(
                  id,
                  schema,
                  name,
                  identity,
                  Arrays.toString(columns),
                  Arrays.toString(types),
                  Arrays.toString(modifiers),
                  Arrays.toString(keys)));
    }

    @Override
    public void insert(int relation, PgOutput.Tuple row) {
      said.add("insert " + relation + " " + text(row));
    }

    @Override
    public void update(int relation, char oldKind, PgOutput.Tuple old, PgOutput.Tuple row) {
      String before = oldKind == 0 ? "" : oldKind + text(old) + " -> ";
      said.add("update " + relation + " " + before + text(row));
    }

    @Override
    public void delete(int relation, PgOutput.Tuple old) {
      said.add("delete " + relation + " " + text(old));
    }

    @Override
    public void truncate(int[] relations) {
      said.add("truncate " + Arrays.toString(relations));
    }

    @Override
    public void message(long lsn, String prefix) {
      said.add("message " + lsn + " " + prefix);
    }
  }

  private static String text(PgOutput.Tuple tuple) {
    List<String> columns = new ArrayList<>();
    tuple.visit(
        (index, kind, bytes, from, length) ->
            columns.add(
                kind == 't'
                    ? new String(bytes, from, length, UTF_8)
                    : kind == 'n' ? "null" : "same"));
    return columns.toString();
  }

  /** Characters as bytes, numbers in their size, text with a zero behind it. */
  private void read(Object... parts) {
    ByteArrayOutputStream bytes = new ByteArrayOutputStream();
    DataOutputStream out = new DataOutputStream(bytes);
    try {
      for (Object part : parts) {
        if (part instanceof Character c) {
          out.writeByte(c);
        } else if (part instanceof Byte b) {
          out.writeByte(b);
        } else if (part instanceof Short s) {
          out.writeShort(s);
        } else if (part instanceof Integer i) {
          out.writeInt(i);
        } else if (part instanceof Long l) {
          out.writeLong(l);
        } else if (part instanceof byte[] raw) {
          out.write(raw);
        } else {
          out.write((part + "\u0000").getBytes(UTF_8));
        }
      }
    } catch (IOException e) {
      throw new IllegalStateException(e);
    }
    // As the driver gives it: somewhere in a larger array.
    byte[] padded = new byte[bytes.size() + 7];
    System.arraycopy(bytes.toByteArray(), 0, padded, 7, bytes.size());
    decoder.read(ByteBuffer.wrap(padded, 7, bytes.size()).slice());
  }

  private static byte[] tuple(String... values) {
    ByteArrayOutputStream bytes = new ByteArrayOutputStream();
    bytes.write(values.length >> 8);
    bytes.write(values.length);
    for (String value : values) {
      if (value == null) {
        bytes.write('n');
      } else if (value.equals("<same>")) {
        bytes.write('u');
      } else {
        byte[] utf8 = value.getBytes(UTF_8);
        bytes.write('t');
        bytes.writeBytes(ByteBuffer.allocate(4).putInt(utf8.length).array());
        bytes.writeBytes(utf8);
      }
    }
    return bytes.toByteArray();
  }

  @Test
  void aTransactionIsRead() {
    read('B', 100L, 5L, 7);
    read(
        'R', 42, "public", "parcel", 'd', (short) 2, (byte) 1, "id", 20, -1, (byte) 0, "größe",
        1700, 655366);
    read('I', 42, 'N', tuple("1", "ä"));
    read('U', 42, 'N', tuple("1", null));
    read('U', 42, 'K', tuple("1", null), 'N', tuple("2", "<same>"));
    read('U', 42, 'O', tuple("2", "b"), 'N', tuple("2", ""));
    read('D', 42, 'K', tuple("2", null));
    read('T', 2, (byte) 0, 42, 43);
    read('M', (byte) 1, 99L, "drip", 0);
    read('O', 1L, "elsewhere");
    read('C', (byte) 0, 100L, 108L, 5L);
    assertThat(said)
        .containsExactly(
            "begin 100 at 946684800000005",
            "relation 42 public.parcel d [id, größe] [20, 1700] [-1, 655366] [true, false]",
            "insert 42 [1, ä]",
            "update 42 [1, null]",
            "update 42 K[1, null] -> [2, same]",
            "update 42 O[2, b] -> [2, ]",
            "delete 42 [2, null]",
            "truncate [42, 43]",
            "message 99 drip",
            "commit 108");
  }
}
