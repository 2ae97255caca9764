package dripledger.connectors.format;

import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import java.io.StringWriter;
import java.math.BigDecimal;
import java.time.LocalDate;
import java.time.LocalTime;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Base64;
import java.util.List;
import tools.jackson.core.JsonGenerator;
import tools.jackson.core.JsonParser;
import tools.jackson.core.JsonToken;
import tools.jackson.core.json.JsonFactory;

/**
 * Reads JSON tokens as values of declared types. A number may stand in quotes, as many producers
 * write it; text never becomes a number silently otherwise. An object or array where text is
 * declared is kept as its JSON text. Stateless.
 */
final class JsonValues {
  private JsonValues() {}

  /** Reads an object, whose START_OBJECT is the current token, into the columns of a schema. */
  static Object[] readObject(JsonParser parser, JsonFactory factory, Schema schema) {
    Object[] values = new Object[schema.size()];
    FormatException failure = null;
    while (parser.nextToken() != JsonToken.END_OBJECT) {
      int column = schema.indexOf(parser.currentName());
      parser.nextToken();
      if (column < 0) {
        parser.skipChildren();
        continue;
      }
      try {
        values[column] = read(parser, factory, schema.column(column));
      } catch (FormatException e) {
        // The rest of the object must be passed over, so that the next record can be read.
        parser.skipChildren();
        failure = failure == null ? e : failure;
      }
    }
    if (failure != null) {
      throw failure;
    }
    return values;
  }

  private static FormatException bad(Column column, String found) {
    return new FormatException(
        "column " + column.name() + ": " + found + " is not of type " + column.type().sql());
  }

  private static Object read(JsonParser parser, JsonFactory factory, Column column) {
    JsonToken token = parser.currentToken();
    ColumnType type = column.type();
    if (token == JsonToken.VALUE_NULL) {
      return null;
    }
    switch (type.kind()) {
      case ROW:
        if (token != JsonToken.START_OBJECT) {
          throw bad(column, shown(parser));
        }
        return Arrays.asList(readObject(parser, factory, new Schema(type.fields())));
      case ARRAY:
        return readArray(parser, factory, column);
      case VARCHAR:
        return token.isStructStart() ? copy(parser, factory) : parser.getString();
      case BOOLEAN:
        if (token == JsonToken.VALUE_TRUE || token == JsonToken.VALUE_FALSE) {
          return token == JsonToken.VALUE_TRUE;
        }
        throw bad(column, shown(parser));
      default:
        if (!token.isScalarValue()) {
          throw bad(column, shown(parser));
        }
        return scalar(parser, column);
    }
  }

  private static Object scalar(JsonParser parser, Column column) {
    boolean number = parser.currentToken().isNumeric();
    boolean text = parser.currentToken() == JsonToken.VALUE_STRING;
    if (!number && !text) {
      throw bad(column, shown(parser));
    }
    String value = parser.getString();
    ColumnType type = column.type();
    try {
      return switch (type.kind()) {
        case SMALLINT -> Casts.shortRange(integer(value));
        case INTEGER -> Casts.intRange(integer(value));
        case BIGINT -> integer(value);
        case REAL, DOUBLE -> Casts.toDouble(value);
        case DECIMAL -> Casts.fit(new BigDecimal(value.strip()), type.precision(), type.scale());
        case VARBINARY -> Base64.getDecoder().decode(value);
        case TIMESTAMP ->
            number
                ? BoxedRows.timestamp(Math.multiplyExact(integer(value), 1000L))
                : BoxedRows.timestamp(Casts.toTimestamp(value));
        case DATE -> LocalDate.ofEpochDay(Casts.toDate(value));
        case TIME -> LocalTime.ofNanoOfDay(Casts.toTime(value) * 1000);
        default -> throw bad(column, shown(parser));
      };
    } catch (FormatException e) {
      throw e;
    } catch (RuntimeException e) {
      throw bad(column, shown(parser));
    }
  }

  /** A whole number; 12.0 is one, 12.5 is not. */
  private static long integer(String value) {
    return new BigDecimal(value.strip()).longValueExact();
  }

  private static List<Object> readArray(JsonParser parser, JsonFactory factory, Column column) {
    if (parser.currentToken() != JsonToken.START_ARRAY) {
      throw bad(column, shown(parser));
    }
    Column element = new Column(column.name(), column.type().element());
    List<Object> values = new ArrayList<>();
    FormatException failure = null;
    while (parser.nextToken() != JsonToken.END_ARRAY) {
      try {
        values.add(read(parser, factory, element));
      } catch (FormatException e) {
        parser.skipChildren();
        failure = failure == null ? e : failure;
      }
    }
    if (failure != null) {
      throw failure;
    }
    return values;
  }

  private static String copy(JsonParser parser, JsonFactory factory) {
    StringWriter out = new StringWriter();
    try (JsonGenerator generator =
        factory.createGenerator(tools.jackson.core.ObjectWriteContext.empty(), out)) {
      generator.copyCurrentStructure(parser);
    }
    return out.toString();
  }

  private static String shown(JsonParser parser) {
    JsonToken token = parser.currentToken();
    if (token == JsonToken.START_OBJECT) {
      return "an object";
    }
    if (token == JsonToken.START_ARRAY) {
      return "an array";
    }
    String text = parser.getString();
    String cut = text.length() > 40 ? text.substring(0, 40) + "…" : text;
    return token == JsonToken.VALUE_STRING ? "\"" + cut + "\"" : cut;
  }
}
