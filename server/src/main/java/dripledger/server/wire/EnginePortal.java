package dripledger.server.wire;

import dripledger.engine.query.Result;
import dripledger.engine.query.RowCursor;
import dripledger.engine.query.RowSink;
import dripledger.engine.row.Column;
import dripledger.engine.statement.Session;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.function.Consumer;

/**
 * A statement that the engine carries out. If all its rows are wanted they are sent as they come;
 * if they are fetched in pieces they are read a little ahead. In neither case are they gathered
 * here, but where a transaction asks for pieces of what it has changed itself.
 */
final class EnginePortal extends Portal {
  private final Session session;
  private final String text;
  private final Map<String, Object> arguments;
  private final String verb;
  private final Consumer<String> notice;
  private final boolean described;
  private List<Field> fields; // the client was told, or will be
  private Result.Done done;
  private Portals.Rows gathered;
  private RowCursor cursor;
  private boolean carriedOut;
  private boolean exhausted; // the cursor

  /**
   * @param described whether it is known what it answers: {@code fields}, or nothing if that is
   *     null; a statement of which nothing is known may be carried out to learn it
   * @param notice takes what is to be said beside the answer
   */
  EnginePortal(
      Session session,
      String text,
      Map<String, Object> arguments,
      String verb,
      boolean described,
      List<Field> fields,
      Consumer<String> notice) {
    this.session = session;
    this.text = text;
    this.arguments = arguments;
    this.verb = verb;
    this.notice = notice;
    this.described = described;
    this.fields = fields;
  }

  @Override
  List<Field> fields() {
    if (!described && !carriedOut) {
      open();
    }
    return fields;
  }

  @Override
  long answer(WireOutput out) throws IOException {
    return carriedOut ? super.answer(out) : sendAll(out, Formats.TEXT, !described);
  }

  @Override
  long send(WireOutput out, Formats formats, long most) throws IOException {
    if (!carriedOut) {
      if (most == 0) {
        return sendAll(out, formats, false);
      }
      open();
    }
    if (cursor == null) {
      return gathered == null ? 0 : gathered.send(out, formats, most);
    }
    long sent = 0;
    while (most == 0 || sent < most) {
      Object[] row = session.next(cursor);
      if (row == null) {
        exhausted = true;
        break;
      }
      Portals.row(out, fields, row, formats);
      sent++;
    }
    return sent;
  }

  /** Sends the rows as they come. */
  private long sendAll(WireOutput out, Formats formats, boolean tells) throws IOException {
    long[] sent = new long[1];
    try {
      carryOut(
          new RowSink() {
            @Override
            public void columns(List<Column> columns) {
              told(columns);
              if (tells) {
                EnginePortal.describe(out, fields);
              }
            }

            @Override
            public void row(Object[] row) {
              sent[0]++;
              try {
                Portals.row(out, fields, row, formats);
              } catch (IOException e) {
                throw new UncheckedIOException(e);
              }
            }
          });
    } catch (UncheckedIOException e) {
      throw e.getCause();
    }
    return sent[0];
  }

  private static void describe(WireOutput out, List<Field> fields) {
    try {
      Field.describe(out, fields, Formats.TEXT);
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    }
  }

  /** Makes ready to give rows piece by piece, or carries the statement out. */
  private void open() {
    boolean answersNone = described && fields == null;
    cursor = answersNone ? null : session.cursor(text, arguments);
    if (cursor != null) {
      carriedOut = true;
      told(cursor.columns());
      return;
    }
    if (carryOut(null) instanceof Result.Rows answer) {
      told(answer.columns());
      gathered = new Portals.Rows(fields, answer.rows(), "SELECT");
    }
  }

  private Result carryOut(RowSink sink) {
    carriedOut = true;
    Result result = session.execute(text, arguments, sink);
    if (result instanceof Result.Done d) {
      done = d;
      if (d.rows() < 0 && (d.message().contains(";") || d.message().contains(","))) {
        notice.accept(d.message());
      }
    } else if (((Result.Rows) result).note() != null) {
      notice.accept(((Result.Rows) result).note());
    }
    return result;
  }

  private void told(List<Column> columns) {
    List<Field> answered = Field.of(columns);
    if (fields == null) {
      fields = answered;
    } else if (!sameTypes(fields, answered)) {
      throw new WireError(
          "0A000", "the statement answers other columns than it did", "prepare it again");
    }
  }

  private static boolean sameTypes(List<Field> a, List<Field> b) {
    if (a.size() != b.size()) {
      return false;
    }
    for (int i = 0; i < a.size(); i++) {
      if (a.get(i).type().oid() != b.get(i).type().oid()) {
        return false;
      }
    }
    return true;
  }

  @Override
  boolean hasEnded() {
    return cursor != null ? exhausted : gathered == null || gathered.hasEnded();
  }

  @Override
  String tag(long sent) {
    if (done == null) {
      return "SELECT " + sent;
    }
    if (done.rows() < 0) {
      return verb;
    }
    String word = verb.toUpperCase(Locale.ROOT);
    return word.equals("INSERT") ? "INSERT 0 " + done.rows() : word + " " + done.rows();
  }

  @Override
  public void close() {
    if (cursor != null) {
      cursor.close();
    }
  }
}
