package dripledger.connectors.drip;

import dripledger.connectors.TroubleLog;
import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.TextLines;
import dripledger.connectors.message.Message;
import dripledger.connectors.message.MessageReader;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.source.Feed;
import dripledger.engine.source.FeedStatus;
import dripledger.engine.source.KeyedRows;
import dripledger.engine.source.Reject;
import dripledger.engine.source.SourceBatch;
import dripledger.engine.source.SourceSink;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.io.InputStream;
import java.nio.charset.StandardCharsets;
import java.time.LocalDateTime;
import java.time.ZoneOffset;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import tools.jackson.core.JacksonException;
import tools.jackson.core.JsonGenerator;
import tools.jackson.core.JsonParser;
import tools.jackson.core.JsonToken;
import tools.jackson.core.ObjectReadContext;
import tools.jackson.core.ObjectWriteContext;
import tools.jackson.core.json.JsonFactory;

/**
 * Follows one view of another service on a thread of its own. Each epoch there that changes the
 * view is taken in one step. Who has lost the connection goes on behind the last epoch it has; if
 * the other service no longer keeps what changed since, or was started anew, all rows come anew and
 * what differs is one step: nothing is missed, only states in between are.
 */
final class DripFeed implements Feed {
  private static final Logger LOG = LoggerFactory.getLogger(DripFeed.class);
  private static final JsonFactory JSON = new JsonFactory();
  private static final long RETRY_MILLIS = 1000;

  /** The longest line: all rows of a view at once. */
  private static final int MOST_BYTES = 512 << 20;

  private final DripAccess access;
  private final CatalogObject.Table table;
  private final SourceSink sink;
  private final MessageReader reader;
  private final RowLayout layout;
  private final List<String> columns = new ArrayList<>(); // of the view, in its order
  private final TroubleLog troubles;
  private final Thread thread;
  private String last; // the id of the last event of an epoch that was taken
  private Gathered gathered; // of an epoch that goes on
  private volatile InputStream open;
  private volatile boolean closed;
  private volatile String state = "reading";
  private volatile String reason;
  private volatile long messages;
  private volatile long bytes;

  private record Gathered(Page page, List<byte[]> came, List<Reject> rejects) {}

  DripFeed(DripAccess access, CatalogObject.Table table, SourceSink sink, DriftLog drift) {
    this.access = access;
    this.table = table;
    this.sink = sink;
    reader = new MessageReader(asJson(table), drift);
    layout = new RowLayout(reader.pageSchema());
    if (drift != null) {
      drift.at(() -> access.name() + " " + table.source().option("view"));
    }
    troubles = new TroubleLog(LOG, table.name());
    thread = new Thread(this::run, "feed-" + table.name());
    thread.start();
  }

  /** The table as if its rows came as JSON, which is what they do. */
  private static CatalogObject.Table asJson(CatalogObject.Table t) {
    SourceSpec source =
        new SourceSpec(
            t.source().connection(), t.source().connectionId(), t.source().options(), "json");
    return new CatalogObject.Table(
        t.id(), t.name(), t.sql(), t.schema(), t.primaryKey(), t.origins(), source);
  }

  private void run() {
    while (!closed) {
      try {
        DripConnector.relation(access, table.source()); // with what it has now
        gathered = null;
        try (InputStream in = access.follow(table.source().option("view"), last)) {
          open = in;
          follow(in);
        }
        waitAfter("the other service has ended it");
      } catch (InterruptedException e) {
        return;
      } catch (IOException e) {
        waitAfter(access.failure(e).getMessage());
      } catch (JacksonException | EngineException | FormatException e) {
        waitAfter(String.valueOf(e.getMessage()));
      } catch (RuntimeException e) {
        LOG.error("{} cannot be read, trying again", table.name(), e);
        waitAfter(String.valueOf(e.getMessage()));
      }
    }
  }

  private void waitAfter(String why) {
    if (closed) {
      return;
    }
    state = "waiting";
    reason = why;
    troubles.tell(why);
    try {
      Thread.sleep(RETRY_MILLIS);
    } catch (InterruptedException e) {
      closed = true;
    }
  }

  /** Reads server-sent events (HTML standard, section 9.2), of which each has one line of data. */
  private void follow(InputStream in) throws IOException, InterruptedException {
    TextLines lines =
        new TextLines((place, into, at, room) -> in.read(into, at, room), MOST_BYTES, true, false);
    String event = "";
    String id = null;
    while (!closed && lines.next()) {
      lines.refuseTooLong();
      String head =
          new String(
              lines.bytes(), lines.from(), Math.min(20, lines.length()), StandardCharsets.UTF_8);
      if (head.startsWith("event: ")) {
        event = head.substring("event: ".length()).strip();
        id = null;
      } else if (head.startsWith("id: ")) {
        int from = lines.from() + "id: ".length();
        id = new String(lines.bytes(), from, lines.length() - 4, StandardCharsets.UTF_8).strip();
      } else if (head.startsWith("data: ")) {
        int from = lines.from() + "data: ".length();
        int length = lines.length() - "data: ".length();
        if (event.equals("end")) {
          throw new EngineException(
              EngineException.Code.FAILED,
              "the other service: "
                  + new String(lines.bytes(), from, length, StandardCharsets.UTF_8),
              null);
        }
        take(lines.bytes(), from, length, event.equals("snapshot"));
        last = id == null ? last : id;
        state = "reading";
        reason = null;
        troubles.over();
      }
    }
  }

  /**
   * Takes what an event says of an epoch: rows that went, then rows that came. An epoch of several
   * events is one step.
   */
  private void take(byte[] data, int from, int length, boolean snapshot)
      throws InterruptedException {
    if (snapshot || gathered == null) {
      gathered = new Gathered(new Page(layout), new ArrayList<>(), new ArrayList<>());
    }
    Page page = gathered.page;
    List<Reject> rejects = gathered.rejects;
    List<byte[]> came = gathered.came;
    if (snapshot) {
      clear(page);
    }
    long epoch = 0;
    boolean more = false;
    try (JsonParser json = JSON.createParser(ObjectReadContext.empty(), data, from, length)) {
      json.nextToken();
      while (json.nextToken() == JsonToken.PROPERTY_NAME) {
        String field = json.currentName();
        json.nextToken();
        switch (field) {
          case "epoch" -> epoch = json.getLongValue();
          case "columns" -> readColumns(json);
          case "changes" -> readChanges(json, came, page, rejects);
          case "more" -> more = json.getBooleanValue();
          default -> json.skipChildren();
        }
      }
    }
    bytes += length;
    if (more) {
      return;
    }
    for (byte[] row : came) {
      read(row, false, page, rejects);
    }
    gathered = null;
    messages += page.size();
    sink.submit(
        List.of(new SourceBatch(table.id(), page, 0, rejects)),
        new SourcePosition("" + epoch),
        null);
  }

  private void clear(Page page) {
    RowWriter writer = page.begin();
    for (int c = 0; c < layout.columns(); c++) {
      writer.setNull(c);
    }
    writer.setLong(KeyedRows.doColumn(table.schema()), KeyedRows.CLEAR);
    page.commit(1);
  }

  private void readColumns(JsonParser json) {
    columns.clear();
    while (json.nextToken() == JsonToken.START_OBJECT) {
      while (json.nextToken() == JsonToken.PROPERTY_NAME) {
        boolean name = json.currentName().equals("name");
        json.nextToken();
        if (name) {
          columns.add(json.getString());
        }
      }
    }
  }

  private void readChanges(JsonParser json, List<byte[]> came, Page page, List<Reject> rejects) {
    while (json.nextToken() == JsonToken.START_OBJECT) {
      long weight = 0;
      byte[] row = null;
      while (json.nextToken() == JsonToken.PROPERTY_NAME) {
        boolean isWeight = json.currentName().equals("weight");
        json.nextToken();
        if (isWeight) {
          weight = json.getLongValue();
        } else {
          row = object(json);
        }
      }
      if (weight < 0) {
        read(row, true, page, rejects);
      } else {
        came.add(row);
      }
    }
  }

  /** A row in the order of the columns as an object by their names. */
  private byte[] object(JsonParser json) {
    ByteArrayOutputStream out = new ByteArrayOutputStream(128);
    try (JsonGenerator to = JSON.createGenerator(ObjectWriteContext.empty(), out)) {
      to.writeStartObject();
      for (int c = 0; json.nextToken() != JsonToken.END_ARRAY; c++) {
        to.writeName(columns.get(c));
        to.copyCurrentStructure(json);
      }
      to.writeEndObject();
    }
    return out.toByteArray();
  }

  private void read(byte[] row, boolean gone, Page page, List<Reject> rejects) {
    Message message = new Message();
    message.headers = Map.of();
    if (gone) {
      message.key = row; // names the key's columns, and others that do not matter
      message.value(null);
    } else {
      message.value(row);
    }
    try {
      reader.read(message, page);
    } catch (FormatException e) {
      rejects.add(
          new Reject(
              table.id(),
              LocalDateTime.now(ZoneOffset.UTC),
              e.getMessage(),
              null,
              row,
              access.name() + " " + table.source().option("view")));
    }
  }

  @Override
  public FeedStatus status() {
    return new FeedStatus(state, reason, messages, bytes, -1, "messages", Map.of());
  }

  @Override
  public void close() {
    closed = true;
    thread.interrupt();
    try {
      InputStream in = open;
      if (in != null) {
        in.close();
      }
      thread.join(10_000);
    } catch (IOException e) {
      LOG.debug("{} was closed", table.name(), e);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }
}
