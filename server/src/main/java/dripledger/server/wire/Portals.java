package dripledger.server.wire;

import dripledger.engine.query.PointRead;
import dripledger.engine.row.RowLayout;
import dripledger.engine.statement.Session;
import dripledger.engine.view.Pinned;
import dripledger.engine.view.RelationVersion;
import java.io.IOException;
import java.util.List;
import java.util.function.Supplier;

/** The kinds of portals that need no more than a few lines. */
final class Portals {
  private Portals() {}

  /** Does something and answers no rows. */
  static Portal done(String tag, Runnable action) {
    return new Portal() {
      @Override
      List<Field> fields() {
        return null;
      }

      @Override
      long send(WireOutput out, Formats formats, long most) {
        action.run();
        return 0;
      }

      @Override
      String tag(long rows) {
        return tag;
      }
    };
  }

  /** Does something, and says what at the end. */
  static Portal done(Supplier<String> action) {
    return new Portal() {
      private String tag = "";

      @Override
      List<Field> fields() {
        return null;
      }

      @Override
      long send(WireOutput out, Formats formats, long most) {
        tag = action.get();
        return 0;
      }

      @Override
      String tag(long rows) {
        return tag;
      }
    };
  }

  /** Rows that are all there, each a value a field, boxed as the engine does. */
  static final class Rows extends Portal {
    private final List<Field> fields;
    private final List<Object[]> rows;
    private final String verb;
    private int next;

    Rows(List<Field> fields, List<Object[]> rows, String verb) {
      this.fields = fields;
      this.rows = rows;
      this.verb = verb;
    }

    @Override
    List<Field> fields() {
      return fields;
    }

    @Override
    long send(WireOutput out, Formats formats, long most) throws IOException {
      long sent = 0;
      for (; next < rows.size() && (most == 0 || sent < most); sent++) {
        row(out, fields, rows.get(next++), formats);
      }
      return sent;
    }

    @Override
    boolean hasEnded() {
      return next == rows.size();
    }

    @Override
    String tag(long sent) {
      return verb.equals("SHOW") ? verb : verb + " " + sent;
    }
  }

  /** Sends one row. */
  static void row(WireOutput out, List<Field> fields, Object[] row, Formats formats)
      throws IOException {
    out.begin('D').int16(row.length);
    for (int i = 0; i < row.length; i++) {
      WireValues.write(out, fields.get(i).ours(), row[i], formats.isBinary(i));
    }
    out.end();
  }

  /** The rows with one key, sent from where they are kept. */
  static final class Point extends Portal {
    private final Session session;
    private final PointRead read;
    private final Object[] key;
    private final List<Field> fields;
    private final Supplier<Portal> otherwise;
    private IOException failure;

    /**
     * @param otherwise carries the statement out, should it no longer be a read by key
     */
    Point(
        Session session,
        PointRead read,
        Object[] key,
        List<Field> fields,
        Supplier<Portal> otherwise) {
      this.otherwise = otherwise;
      this.session = session;
      this.read = read;
      this.key = key;
      this.fields = fields;
    }

    @Override
    List<Field> fields() {
      return fields;
    }

    @Override
    long send(WireOutput out, Formats formats, long most) throws IOException {
      long[] sent = new long[1];
      try (Pinned now = session.read()) {
        RelationVersion version = read.at(now.snapshot());
        if (version == null) {
          return otherwise.get().send(out, formats, 0);
        }
        RowLayout layout = version.layout();
        int[] picked = read.picked();
        version.find(
            key,
            (bytes, at) -> {
              sent[0]++;
              return row(out, layout, bytes, at, picked, formats);
            });
      }
      if (failure != null) {
        throw failure;
      }
      return sent[0];
    }

    private boolean row(
        WireOutput out, RowLayout layout, byte[] bytes, int at, int[] picked, Formats formats) {
      try {
        out.begin('D').int16(picked.length);
        for (int i = 0; i < picked.length; i++) {
          WireValues.write(out, layout, bytes, at, picked[i], formats.isBinary(i));
        }
        out.end();
        return true;
      } catch (IOException e) {
        failure = e;
        return false;
      }
    }

    @Override
    String tag(long rows) {
      return rows == 1 ? "SELECT 1" : "SELECT " + rows;
    }
  }
}
