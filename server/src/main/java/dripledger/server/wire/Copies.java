package dripledger.server.wire;

import dripledger.engine.Engine;
import dripledger.engine.access.Privilege;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.query.Result;
import dripledger.engine.query.RowSink;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.source.Ledger;
import java.io.IOException;
import java.io.UncheckedIOException;
import java.util.ArrayList;
import java.util.Iterator;
import java.util.List;
import java.util.Map;
import java.util.concurrent.ExecutionException;
import java.util.concurrent.Future;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.TimeoutException;

/** COPY: an answer as one stream of rows, also of a query that is followed; and a push. */
final class Copies {
  private static final int PAGE_BYTES = 4 * 1024 * 1024;
  private static final long PATIENCE_SECONDS = 60;

  private final Engine engine;
  private final WireSession session;
  private final WireInput in;
  private final WireOutput wire;

  Copies(Engine engine, WireSession session, WireInput in, WireOutput wire) {
    this.engine = engine;
    this.session = session;
    this.in = in;
    this.wire = wire;
  }

  Portal portal(StatementText statement) {
    CopyOptions options = CopyOptions.of(statement);
    return new Portal() {
      @Override
      List<Field> fields() {
        return null;
      }

      @Override
      long send(WireOutput out, Formats formats, long most) throws IOException {
        copied = options.in() ? in(options) : out(options);
        return copied;
      }

      private long copied;

      @Override
      String tag(long rows) {
        return "COPY " + copied;
      }
    };
  }

  // ---- out

  private long out(CopyOptions options) throws IOException {
    if (options.query() != null && options.query().begins("follow")) {
      return follow(options);
    }
    if (options.query() != null && !WireSession.answersRows(options.query())) {
      throw notForCopy();
    }
    if (options.query() == null || session.kind(options.query()) == Prepared.Kind.ENGINE) {
      return streamed(options);
    }
    try (Portal portal = session.portal(options.query())) {
      List<Field> fields = portal.fields();
      if (fields == null) {
        throw notForCopy();
      }
      CopyWriter writer = new CopyWriter(wire, options, fields);
      writer.begin();
      long rows = portal.send(writer.output(), writer.formats(), 0);
      writer.finish();
      return rows;
    }
  }

  private static WireError notForCopy() {
    return new WireError("42601", "COPY takes a query", null);
  }

  /** Copies rows as they come. */
  private long streamed(CopyOptions options) throws IOException {
    CopyWriter[] writer = new CopyWriter[1];
    long[] rows = new long[1];
    try {
      Result result =
          session
              .engine()
              .execute(
                  sql(options),
                  Map.of(),
                  new RowSink() {
                    @Override
                    public void columns(List<Column> columns) {
                      writer[0] = new CopyWriter(wire, options, Field.of(columns));
                      writer[0].begin();
                    }

                    @Override
                    public void row(Object[] row) {
                      rows[0]++;
                      writer[0].row(row);
                    }
                  });
      if (!(result instanceof Result.Rows answer)) {
        throw notForCopy();
      }
      if (answer.note() != null) {
        session.notice(answer.note());
      }
    } catch (UncheckedIOException e) {
      throw e.getCause();
    }
    writer[0].finish();
    return rows[0];
  }

  /** The rows of a relation are those of a query for its columns. */
  private static String sql(CopyOptions options) {
    if (options.query() != null) {
      return options.query().text();
    }
    String columns =
        options.columns().isEmpty()
            ? "*"
            : String.join(", ", options.columns().stream().map(Copies::quoted).toList());
    return "SELECT " + columns + " FROM " + quoted(options.relation());
  }

  private static String quoted(String name) {
    return '"' + name.replace("\"", "\"\"") + '"';
  }

  private long follow(CopyOptions options) throws IOException {
    try (FollowPortal following =
        new FollowPortal(engine, options.query().text(), Map.of(), session)) {
      CopyWriter writer = new CopyWriter(wire, options, following.fields());
      writer.begin();
      wire.flush();
      long rows = 0;
      for (Object[] row = following.next(); row != null; row = following.next()) {
        Portals.row(writer.output(), following.fields(), row, writer.formats());
        rows++;
        if (!following.hasNext()) {
          writer.output().flush();
          wire.flush();
        }
      }
      writer.finish();
      return rows;
    }
  }

  // ---- in

  private long in(CopyOptions options) throws IOException {
    CatalogObject object = engine.object(options.relation(), session.caller());
    session.caller().need(Privilege.INSERT, object);
    session.engine().refuseIfOnlyReads();
    Schema schema = object.schema();
    int[] places =
        options.columns().isEmpty()
            ? java.util.stream.IntStream.range(0, schema.size()).toArray()
            : options.columns().stream().mapToInt(c -> place(object, c)).toArray();
    Taker taker;
    if (object instanceof CatalogObject.Stream stream && stream.source() == null) {
      taker = new Pushed(stream, places);
    } else {
      throw new WireError(
          "42809",
          "rows are copied into streams that are pushed to",
          "INSERT INTO changes a table; what has a source is changed there");
    }
    wire.begin('G').int8(options.format() == CopyOptions.Format.BINARY ? 1 : 0);
    wire.int16(places.length);
    for (int i = 0; i < places.length; i++) {
      wire.int16(options.format() == CopyOptions.Format.BINARY ? 1 : 0);
    }
    wire.end();
    Iterator<Object[]> rows = new CopyReader(in, options, schema, places, session);
    long taken = 0;
    try {
      while (rows.hasNext()) {
        taker.take(rows.next());
        taken++;
      }
      taker.finish();
    } catch (WireError e) {
      long kept = taker.settle();
      throw new WireError(
          e.state(),
          e.getMessage()
              + (kept == 0 ? "; nothing was taken" : "; the first " + kept + " rows were taken"),
          e.hint());
    }
    return taken;
  }

  private static int place(CatalogObject object, String column) {
    int place = object.schema().indexOf(column);
    if (place < 0) {
      throw new WireError("42703", "no column \"" + column + "\" in " + object.name(), null);
    }
    return place;
  }

  /** Takes rows as they come. */
  private interface Taker {
    void take(Object[] row);

    void finish();

    /** After an error: waits for what was handed on; answers how many rows that is. */
    long settle();
  }

  /** A push: all or nothing up to the size of a page, in pages beyond it. */
  private final class Pushed implements Taker {
    private final CatalogObject.Stream stream;
    private final int[] places;
    private final RowLayout layout;
    private final List<Future<Ledger.Receipt>> waiting = new ArrayList<>();
    private long last = -1; // number of what was handed on and is durable
    private Page page;
    private long handed;

    Pushed(CatalogObject.Stream stream, int[] places) {
      this.stream = stream;
      this.places = places;
      layout = new RowLayout(stream.schema());
      page = new Page(layout);
    }

    @Override
    public void take(Object[] row) {
      Object[] whole = new Object[layout.columns()];
      for (int i = 0; i < places.length; i++) {
        whole[places[i]] = row[i];
      }
      RowWriter writer = page.begin();
      try {
        BoxedRows.write(writer, whole);
      } catch (IllegalArgumentException e) {
        page.abort();
        throw new WireError(
            "22000", "row " + (handed + page.size() + 1) + ": " + e.getMessage(), null);
      }
      page.commit(1);
      if (page.size() > 0 && page.end(page.size() - 1) > PAGE_BYTES) {
        hand();
      }
    }

    private void hand() {
      if (!page.isEmpty()) {
        waiting.add(engine.append(stream, page, 0));
        handed += page.size();
        page = new Page(layout);
      }
      while (waiting.size() > 2) {
        await(waiting.remove(0));
      }
    }

    private void await(Future<Ledger.Receipt> receipt) {
      try {
        last = receipt.get(PATIENCE_SECONDS, TimeUnit.SECONDS).sequence();
      } catch (ExecutionException e) {
        throw new WireError(
            "58030", "the rows could not be made durable", "what was said to be taken is");
      } catch (TimeoutException e) {
        throw new WireError("55000", "the database has not acknowledged the rows", null);
      } catch (InterruptedException e) {
        Thread.currentThread().interrupt();
        throw new WireError("57014", "the statement was cancelled", null);
      }
    }

    @Override
    public void finish() {
      hand();
      waiting.forEach(this::await);
      if (last >= 0) {
        engine.awaitApplied(last); // whoever copied in sees it
      }
    }

    @Override
    public long settle() {
      waiting.forEach(this::await);
      return handed;
    }
  }
}
