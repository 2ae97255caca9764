package dripledger.connectors.message;

import dripledger.connectors.format.CsvDecoder;
import dripledger.connectors.format.DriftLog;
import dripledger.connectors.format.FieldTree;
import dripledger.connectors.format.FormatException;
import dripledger.connectors.format.Formats;
import dripledger.connectors.format.JsonDecoder;
import dripledger.connectors.format.MessageDecoder;
import dripledger.connectors.format.RegistryLogin;
import dripledger.connectors.format.RowBuilder;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.CatalogObject.Meta;
import dripledger.engine.catalog.Origins;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import dripledger.engine.source.KeyedRows;
import java.nio.charset.StandardCharsets;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.BiPredicate;
import tools.jackson.core.JacksonException;
import tools.jackson.databind.json.JsonMapper;

/**
 * Turns messages into the rows of one stream, or the operations of one keyed table: the value by
 * its format, the transport's columns by what it knows, and the key of a row that is gone by the
 * message's key. Not thread-safe: each thread has its own.
 */
public final class MessageReader {
  private static final JsonMapper JSON = JsonMapper.builder().build();

  private final Schema schema;
  private final Origins origins;
  private final FieldTree fields;
  private final MessageDecoder decoder;
  private final RowBuilder builder;
  private final RowBuilder keyBuilder;
  private final int[] key;
  private final Set<Integer> added;
  private final boolean retained;
  private final DriftLog drift;
  private List<String> header;
  private CsvDecoder csv;
  private final Envelope envelope;
  private BiPredicate<Message, Integer> before = (message, column) -> false;

  /**
   * @param drift told of what is not declared; or null
   */
  public MessageReader(CatalogObject object, DriftLog drift) {
    this(object, drift, RegistryLogin.NONE);
  }

  /**
   * As above.
   *
   * @param login as who the schema registry is asked
   */
  public MessageReader(CatalogObject object, DriftLog drift, RegistryLogin login) {
    this(object, drift, login, false);
  }

  /** The reader of a definition whose files hold values or records with a header. */
  public static MessageReader ofFiles(CatalogObject object, DriftLog drift) {
    return new MessageReader(object, drift, RegistryLogin.NONE, true);
  }

  private MessageReader(CatalogObject object, DriftLog drift, RegistryLogin login, boolean files) {
    this.drift = drift;
    SourceSpec given = CatalogObject.sourceOf(object);
    SourceSpec source = given != null ? given : new SourceSpec("", 0, Map.of(), "json");
    schema = object.schema();
    origins = CatalogObject.originsOf(object);
    fields = FieldTree.of(schema, origins);
    key = object instanceof CatalogObject.Table t ? t.primaryKey() : null;
    added = object instanceof CatalogObject.Stream s ? Set.copyOf(s.addedAt().keySet()) : Set.of();
    envelope = Envelope.of(source);
    retained = object instanceof CatalogObject.Stream s && s.inLedger();
    boolean values = files && !source.format().equals("json") && !source.format().equals("text");
    decoder =
        values
            ? null
            : envelope == null
                ? Formats.decoder(source, schema, origins, drift, login)
                : new JsonDecoder(schema, origins, drift);
    builder = new RowBuilder(schema);
    keyBuilder = new RowBuilder(schema);
  }

  /** Says which messages are from before a column was added, and so do not have it. */
  public void before(BiPredicate<Message, Integer> predicate) {
    before = predicate;
  }

  /** The schema of the pages rows are read into. */
  public Schema pageSchema() {
    return key == null ? schema : KeyedRows.schema(schema);
  }

  /**
   * Appends what the message says.
   *
   * @throws FormatException if it cannot be read; nothing was appended then
   */
  public void read(Message message, Page into) {
    guarded(into, () -> append(message, into));
  }

  /** Appends a record that comes as plain values by field name. */
  public void readPlain(Map<String, Object> record, Message message, Page into) {
    guarded(
        into,
        () -> {
          builder.clear();
          Formats.setPlain(record, fields, builder, drift);
          appendBuilt(message, into);
        });
  }

  /** Appends a CSV record under a header. */
  public void readCsv(List<String> record, List<String> names, Message message, Page into) {
    under(names);
    guarded(
        into,
        () -> {
          builder.clear();
          csv.decode(record, builder);
          appendBuilt(message, into);
        });
  }

  /**
   * Sees whether any field of a CSV header is a column.
   *
   * @throws FormatException if none is
   */
  public void checkCsv(List<String> names) {
    under(names);
    csv.checkHeader();
  }

  private void under(List<String> names) {
    if (!names.equals(header)) {
      header = names;
      csv = new CsvDecoder(schema, origins, names, drift);
    }
  }

  private static void guarded(Page into, Runnable append) {
    int rows = into.size();
    try {
      append.run();
    } catch (FormatException | RowWriter.RowTooLargeException e) {
      into.truncate(rows);
      throw new FormatException(e.getMessage());
    }
  }

  /**
   * Appends that the row a table has for the key of a message that cannot be read is gone: an older
   * form of it would be wrong. Nothing if the key cannot be read either.
   */
  public void forget(Message message, Page into) {
    if (key == null || message.key == null) {
      return;
    }
    try {
      guarded(
          into,
          () -> {
            builder.clear();
            keyFromMessage(message, builder);
            put(into, KeyedRows.DELETE, true);
          });
    } catch (FormatException e) {
      // then nobody knows which row it was about
    }
  }

  private void append(Message message, Page into) {
    int rows = into.size();
    appendRows(message, into);
    if (key != null && message.timeMillis >= 0) {
      for (int i = rows; i < into.size(); i++) {
        into.mark(i, message.timeMillis * 1000); // when it was made
      }
    }
  }

  private void appendRows(Message message, Page into) {
    builder.clear();
    if (key == null) {
      if (message.value == null) {
        throw new FormatException("the message has no value");
      }
      decoder.decode(message.value, message.from, message.length, builder);
      appendBuilt(message, into);
    } else if (envelope != null && message.value != null) {
      readEnvelope(message, into);
    } else if (message.value == null) {
      if (envelope == null) {
        keyFromMessage(message, builder);
        put(into, KeyedRows.DELETE, true);
      }
    } else {
      decoder.decode(message.value, message.from, message.length, builder);
      appendBuilt(message, into);
    }
  }

  private void appendBuilt(Message message, Page into) {
    if (key != null) {
      completeKey(message);
      setMeta(message);
      put(into, KeyedRows.PUT, false);
      return;
    }
    setMeta(message);
    for (int column : added) {
      if (before.test(message, column)) {
        builder.setNull(column);
      }
    }
    builder.write(into.begin(), false);
    into.commit(1);
  }

  private void readEnvelope(Message message, Page into) {
    Envelope.Change change = envelope.read(message.value, message.from, message.length);
    byte[] before = change.before();
    byte[] after = change.after();
    if (change.delete() || after == null) {
      if (before == null) {
        keyFromMessage(message, builder);
      } else {
        decoder.decode(before, 0, before.length, builder);
      }
      put(into, KeyedRows.DELETE, true);
      return;
    }
    if (before != null) {
      // If the key has changed, the row under the old key is gone.
      decoder.decode(after, 0, after.length, builder);
      String keyAfter = hasKey() ? keyText() : null;
      builder.clear();
      decoder.decode(before, 0, before.length, builder);
      if (keyAfter != null && hasKey() && !keyText().equals(keyAfter)) {
        put(into, KeyedRows.DELETE, true);
      }
    }
    builder.clear();
    decoder.decode(after, 0, after.length, builder);
    completeKey(message);
    setMeta(message);
    put(into, KeyedRows.PUT, false);
  }

  private boolean hasKey() {
    for (int k : key) {
      if (!builder.isSet(k)) {
        return false;
      }
    }
    return true;
  }

  private String keyText() {
    Page page = new Page(new RowLayout(KeyedRows.schema(schema)));
    put(page, KeyedRows.DELETE, true);
    StringBuilder text = new StringBuilder();
    for (int k : key) {
      text.append(BoxedRows.readColumn(page.layout(), page.bytes(), page.start(0), k))
          .append('\u0000');
    }
    return text.toString();
  }

  private void put(Page into, int what, boolean onlyKey) {
    for (int k : key) {
      if (!builder.isSet(k)) {
        throw new FormatException("the key column " + schema.column(k).name() + " is missing");
      }
    }
    RowWriter writer = into.begin();
    builder.write(writer, onlyKey);
    writer.setLong(KeyedRows.doColumn(schema), what);
    writer.setNull(KeyedRows.keepColumn(schema));
    into.commit(1);
  }

  /**
   * Key columns that the value does not have are in the message's key. If it has them and the
   * message's key says another row, a later message without a value will not delete this one: that
   * is noted.
   */
  private void completeKey(Message message) {
    if (message.key == null) {
      return;
    }
    if (!hasKey()) {
      keyFromMessage(message, builder);
    } else if (drift != null && envelope == null && !keyIsOf(message)) {
      drift.otherKey(new String(message.key, StandardCharsets.UTF_8));
    }
  }

  private boolean keyIsOf(Message message) {
    keyBuilder.clear();
    try {
      keyFromMessage(message, keyBuilder);
    } catch (FormatException e) {
      return false;
    }
    for (int k : key) {
      if (!keyBuilder.boxed(k).equals(builder.boxed(k))) {
        return false;
      }
    }
    return true;
  }

  /** A key of one column is its text, or JSON; of several, a JSON object. */
  private void keyFromMessage(Message message, RowBuilder into) {
    if (message.key == null) {
      throw new FormatException("the message has neither a value nor a key");
    }
    String text = new String(message.key, StandardCharsets.UTF_8).strip();
    if (text.startsWith("{")) {
      Map<String, Object> fields = Formats.jsonObject(message.key);
      for (int k : key) {
        List<String> path = origins.path(k, schema);
        Object value = fields.get(path.get(path.size() - 1));
        if (value == null) {
          throw new FormatException("the message's key has no field " + path.get(path.size() - 1));
        }
        setKey(k, String.valueOf(value), into);
      }
    } else if (key.length == 1) {
      boolean quoted = text.length() > 1 && text.startsWith("\"") && text.endsWith("\"");
      try {
        setKey(key[0], quoted ? JSON.readValue(text, String.class) : text, into);
      } catch (JacksonException e) {
        throw new FormatException("the message's key " + text + " is broken JSON");
      }
    } else {
      throw new FormatException("the message's key is not a JSON object of the key columns");
    }
  }

  private void setKey(int column, String text, RowBuilder into) {
    Column c = schema.column(column);
    try {
      into.setParsed(column, text);
    } catch (RuntimeException e) {
      throw new FormatException(
          "the message's key \"" + text + "\" is not of type " + c.type().sql());
    }
  }

  private void setMeta(Message message) {
    for (Map.Entry<Integer, Meta> entry : origins.meta().entrySet()) {
      int column = entry.getKey();
      switch (entry.getValue()) {
        case ARRIVED_AT -> {
          // What can be read again must say the same again: then it is the transport's own time.
          boolean fixed = retained || message.timeMillis < 0;
          builder.setLong(column, (fixed ? System.currentTimeMillis() : message.timeMillis) * 1000);
        }
        case RECORD_TIME -> {
          if (message.timeMillis >= 0) {
            builder.setLong(column, message.timeMillis * 1000);
          }
        }
        case PARTITION -> builder.setLong(column, message.partition);
        case POSITION -> builder.setLong(column, message.position);
        case KEY -> {
          if (message.key != null) {
            builder.setBytes(column, message.key, 0, message.key.length);
          }
        }
        case HEADERS -> {
          if (!message.headers.isEmpty()) {
            builder.setText(column, JSON.writeValueAsString(message.headers));
          }
        }
      }
    }
  }
}
