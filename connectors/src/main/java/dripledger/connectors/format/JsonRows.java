package dripledger.connectors.format;

import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.source.Outgoing;
import java.io.ByteArrayOutputStream;
import java.math.BigDecimal;
import java.nio.charset.StandardCharsets;
import java.time.LocalDateTime;
import java.util.Base64;
import java.util.List;
import tools.jackson.core.JsonGenerator;
import tools.jackson.core.ObjectWriteContext;
import tools.jackson.core.json.JsonFactory;

/**
 * Rows as JSON: DECIMAL a string (exact), BIGINT a number, TIMESTAMP ISO-8601 with Z, VARBINARY
 * base64, ROW an object, ARRAY an array; NaN and infinities are strings. Stateless.
 */
public final class JsonRows {
  private static final JsonFactory FACTORY = new JsonFactory();

  private JsonRows() {}

  /** A row as a message of its own: an object by column name. */
  public static byte[] message(List<Column> columns, Object[] row) {
    return new Messages().message(columns, row);
  }

  /** Rows and changes as messages of their own, one after the other. One thread. */
  public static final class Messages {
    private static final JsonFactory UNSEPARATED =
        FACTORY.rebuild().rootValueSeparator((String) null).build();

    private final ByteArrayOutputStream out = new ByteArrayOutputStream();
    private final JsonGenerator json = UNSEPARATED.createGenerator(ObjectWriteContext.empty(), out);

    /** A row: an object by column name. */
    public byte[] message(List<Column> columns, Object[] row) {
      object(json, columns, row);
      return taken();
    }

    /** A change. */
    public byte[] change(List<Column> columns, Outgoing.Change change, long epoch) {
      JsonRows.change(json, columns, change, epoch);
      return taken();
    }

    private byte[] taken() {
      json.flush();
      byte[] message = out.toByteArray();
      out.reset();
      return message;
    }
  }

  private static void change(
      JsonGenerator json, List<Column> columns, Outgoing.Change change, long epoch) {
    json.writeStartObject();
    json.writeStringProperty("operation", ChangeRecords.operation(change));
    json.writeNumberProperty("epoch", epoch);
    json.writeName("before");
    row(json, columns, change.before());
    json.writeName("after");
    row(json, columns, change.after());
    json.writeEndObject();
  }

  /**
   * Changes as one message.
   *
   * @param append whether rows only come, so that they are all that there is to say
   */
  public static byte[] batch(
      String sink,
      long epoch,
      List<Column> columns,
      List<Outgoing.Change> changes,
      boolean append) {
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    try (JsonGenerator json = FACTORY.createGenerator(ObjectWriteContext.empty(), out)) {
      json.writeStartObject();
      json.writeStringProperty("sink", sink);
      json.writeNumberProperty("epoch", epoch);
      json.writeArrayPropertyStart(append ? "rows" : "changes");
      for (Outgoing.Change change : changes) {
        if (append) {
          object(json, columns, change.after());
        } else {
          change(json, columns, change, epoch);
        }
      }
      json.writeEndArray();
      json.writeEndObject();
    }
    return out.toByteArray();
  }

  private static void row(JsonGenerator json, List<Column> columns, Object[] row) {
    if (row == null) {
      json.writeNull();
    } else {
      object(json, columns, row);
    }
  }

  /** A value as text: a ROW has the names of its fields. */
  public static String text(ColumnType type, Object value) {
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    try (JsonGenerator json = FACTORY.createGenerator(ObjectWriteContext.empty(), out)) {
      value(json, type, value);
    }
    return out.toString(StandardCharsets.UTF_8);
  }

  /** An array, or a ROW without its names, as text. */
  public static String text(List<?> values) {
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    try (JsonGenerator json = FACTORY.createGenerator(ObjectWriteContext.empty(), out)) {
      array(json, values);
    }
    return out.toString(StandardCharsets.UTF_8);
  }

  private static void array(JsonGenerator json, List<?> values) {
    json.writeStartArray();
    for (Object value : values) {
      if (value instanceof List<?> inner) {
        array(json, inner);
      } else if (value == null) {
        json.writeNull();
      } else if (value instanceof Boolean b) {
        json.writeBoolean(b);
      } else if (value instanceof Long n) {
        json.writeNumber(n);
      } else {
        json.writeString(PlainText.of(value));
      }
    }
    json.writeEndArray();
  }

  /** What columns there are. */
  public static void columns(JsonGenerator json, List<Column> columns) {
    json.writeArrayPropertyStart("columns");
    for (Column c : columns) {
      json.writeStartObject();
      json.writeStringProperty("name", c.name());
      json.writeStringProperty("type", c.type().sql());
      json.writeBooleanProperty("nullable", c.type().nullable());
      json.writeEndObject();
    }
    json.writeEndArray();
  }

  /** A row as an array in column order. */
  public static void array(JsonGenerator json, List<Column> columns, Object[] row) {
    json.writeStartArray();
    for (int i = 0; i < row.length; i++) {
      value(json, columns.get(i).type(), row[i]);
    }
    json.writeEndArray();
  }

  /** A row as an object by column name. */
  public static void object(JsonGenerator json, List<Column> columns, Object[] row) {
    json.writeStartObject();
    for (int i = 0; i < row.length; i++) {
      json.writeName(columns.get(i).name());
      value(json, columns.get(i).type(), row[i]);
    }
    json.writeEndObject();
  }

  private static void value(JsonGenerator json, ColumnType type, Object value) {
    if (value == null) {
      json.writeNull();
    } else if (value instanceof Boolean b) {
      json.writeBoolean(b);
    } else if (value instanceof Long n) {
      json.writeNumber(n);
    } else if (value instanceof Double d) {
      if (Double.isFinite(d)) {
        json.writeNumber(d);
      } else {
        json.writeString(Casts.text(d));
      }
    } else if (value instanceof BigDecimal d) {
      json.writeString(d.toPlainString());
    } else if (value instanceof LocalDateTime t) {
      json.writeString(Casts.isoTimestamp(BoxedRows.micros(t)));
    } else if (value instanceof byte[] b) {
      json.writeString(Base64.getEncoder().encodeToString(b));
    } else if (type.kind() == ColumnType.Kind.ROW) {
      object(json, type.fields(), ((List<?>) value).toArray());
    } else if (value instanceof List<?> list) {
      json.writeStartArray();
      list.forEach(v -> value(json, type.element(), v));
      json.writeEndArray();
    } else {
      json.writeString(value.toString());
    }
  }
}
