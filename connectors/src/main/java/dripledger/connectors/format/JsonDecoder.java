package dripledger.connectors.format;

import dripledger.engine.catalog.Origins;
import dripledger.engine.expr.Casts;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.io.StringWriter;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Base64;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import tools.jackson.core.JacksonException;
import tools.jackson.core.JsonGenerator;
import tools.jackson.core.JsonParser;
import tools.jackson.core.JsonToken;
import tools.jackson.core.ObjectReadContext;
import tools.jackson.core.ObjectWriteContext;
import tools.jackson.core.json.JsonFactory;

/**
 * JSON objects to rows, straight from the parser's buffers: no tree, and no text that is not kept.
 * A number may stand in quotes, as many producers write it; text never becomes a number silently
 * otherwise. An object or array where text is declared is kept as its JSON text.
 *
 * <p>A message as most programs write it is read by {@link PlainJson}. Any other is read by a
 * parser: producers write fields in one order, so the column of a field is guessed from the field
 * before it and looked up only if the guess is wrong.
 */
public final class JsonDecoder implements MessageDecoder {
  private final JsonFactory factory = new JsonFactory();
  private final MessageParser messages = new MessageParser(factory);
  private final PlainJson plain;
  private final Fields fields;
  private final DriftLog drift;

  /**
   * The columns of an object by field name, with the order fields came in last. What a name stands
   * for is a column, or −2 and less for an object with fields of the same row inside.
   */
  private static final class Fields {
    final Schema schema;
    final FieldTree tree;
    final String path;
    final Fields[] nested;
    final List<Fields> inside = new ArrayList<>();
    final Map<String, Integer> insideAt = new HashMap<>();
    String[] order = new String[16];
    int[] orderColumns = new int[16];

    Fields(Schema schema, FieldTree tree) {
      this.schema = schema;
      this.tree = tree;
      path = tree.path();
      nested = new Fields[schema.size()];
      tree.columns()
          .forEach(
              (name, column) -> {
                if (schema.type(column).kind() == Kind.ROW) {
                  Schema fields = new Schema(schema.type(column).fields());
                  nested[column] =
                      new Fields(fields, FieldTree.of(fields, Origins.NONE, path + name + "."));
                }
              });
      tree.groups()
          .forEach(
              (name, group) -> {
                insideAt.put(name, -2 - inside.size());
                inside.add(new Fields(schema, group));
              });
    }

    private int find(String name) {
      int column = tree.column(name);
      return column >= 0 ? column : insideAt.getOrDefault(name, -1);
    }

    int column(String name, int place) {
      if (place < order.length && name.equals(order[place])) {
        return orderColumns[place];
      }
      int column = find(name);
      if (place < 200) {
        if (place >= order.length) {
          order = Arrays.copyOf(order, place * 2);
          orderColumns = Arrays.copyOf(orderColumns, place * 2);
        }
        order[place] = name;
        orderColumns[place] = column;
      }
      return column;
    }
  }

  /**
   * @param origins where in the message the columns are
   * @param drift told of what is not declared; or null
   */
  public JsonDecoder(Schema schema, Origins origins, DriftLog drift) {
    this.drift = drift;
    FieldTree tree = FieldTree.of(schema, origins);
    fields = new Fields(schema, tree);
    plain = new PlainJson(schema, tree, drift);
  }

  @Override
  public void decode(byte[] message, int from, int length, RowBuilder into) {
    if (plain.read(message, from, length, into)) {
      return;
    }
    into.clear();
    if (!messages.read(message, from, length, parser -> readObject(parser, into))) {
      into.clear();
      decodeAlone(message, from, length, into); // says what is wrong with it, and where
    }
  }

  private void decodeAlone(byte[] message, int from, int length, RowBuilder into) {
    try (JsonParser parser =
        factory.createParser(ObjectReadContext.empty(), message, from, length)) {
      if (parser.nextToken() != JsonToken.START_OBJECT) {
        throw new FormatException("not a JSON object");
      }
      readObject(parser, into);
      if (parser.nextToken() != null) {
        throw new FormatException("more than one JSON value in the message");
      }
    } catch (JacksonException e) {
      throw new FormatException("broken JSON: " + reason(e));
    }
  }

  /** The first sentence of a parser's complaint, and the place. */
  static String reason(JacksonException e) {
    String where = e.getLocation() == null ? "" : " at character " + e.getLocation().getColumnNr();
    return e.getOriginalMessage().lines().findFirst().orElse("").split(" \\(for ")[0] + where;
  }

  /**
   * Reads the object whose START_OBJECT is the current token, to its end even if it is refused.
   *
   * @throws FormatException with the first value that does not fit
   */
  void readObject(JsonParser parser, RowBuilder into) {
    readObject(parser, fields, into);
  }

  private void readObject(JsonParser parser, Fields known, RowBuilder into) {
    FormatException failure = null;
    int place = 0;
    for (String name; (name = parser.nextName()) != null; place++) {
      int column = known.column(name, place);
      JsonToken token = parser.nextToken();
      if (column == -1) {
        unknown(parser, known, name);
        parser.skipChildren();
        continue;
      }
      try {
        if (column < 0) {
          readInside(parser, token, known.inside.get(-2 - column), into);
        } else {
          read(parser, token, known, column, into);
        }
      } catch (FormatException e) {
        // The rest of the object must be passed over, so that the next one can be read.
        parser.skipChildren();
        failure = failure == null ? e : failure;
      }
    }
    if (failure != null) {
      throw failure;
    }
  }

  private void readInside(JsonParser parser, JsonToken token, Fields inside, RowBuilder into) {
    if (token == JsonToken.START_OBJECT) {
      readObject(parser, inside, into);
    } else if (token != JsonToken.VALUE_NULL) {
      throw new FormatException(
          "field "
              + inside.path.substring(0, inside.path.length() - 1)
              + ": "
              + shown(parser)
              + " is not an object");
    }
  }

  private void unknown(JsonParser parser, Fields known, String name) {
    String path = known.path + name;
    if (drift != null && !drift.known(path)) {
      drift.newField(path, typeOf(parser), shown(parser));
    }
  }

  private static String typeOf(JsonParser parser) {
    return switch (parser.currentToken()) {
      case VALUE_NUMBER_INT -> "BIGINT";
      case VALUE_NUMBER_FLOAT -> "DOUBLE";
      case VALUE_TRUE, VALUE_FALSE -> "BOOLEAN";
      case START_OBJECT -> "ROW";
      case START_ARRAY -> "ARRAY";
      default -> "VARCHAR";
    };
  }

  private FormatException bad(JsonParser parser, Fields known, int column) {
    Column c = known.schema.column(column);
    if (drift != null) {
      drift.misfit(known.path + c.name(), typeOf(parser), shown(parser));
    }
    return new FormatException(
        "column " + c.name() + ": " + shown(parser) + " is not of type " + c.type().sql());
  }

  private void read(JsonParser parser, JsonToken token, Fields known, int column, RowBuilder into) {
    if (token == JsonToken.VALUE_NULL) {
      into.setNull(column);
      return;
    }
    ColumnType type = known.schema.type(column);
    switch (type.kind()) {
      case VARCHAR -> {
        if (token.isStructStart()) {
          into.setText(column, copy(parser));
        } else if (token == JsonToken.VALUE_STRING) {
          into.setText(
              column,
              parser.getStringCharacters(),
              parser.getStringOffset(),
              parser.getStringLength());
        } else {
          into.setText(column, parser.getString());
        }
      }
      case ROW -> {
        if (token != JsonToken.START_OBJECT) {
          throw bad(parser, known, column);
        }
        readObject(parser, known.nested[column], into.nested(column));
      }
      case ARRAY -> into.setBoxed(column, readArray(parser, known, column, type.element()));
      case BOOLEAN -> {
        if (token != JsonToken.VALUE_TRUE && token != JsonToken.VALUE_FALSE) {
          throw bad(parser, known, column);
        }
        into.setLong(column, token == JsonToken.VALUE_TRUE ? 1 : 0);
      }
      default -> {
        if (!token.isNumeric() && token != JsonToken.VALUE_STRING) {
          throw bad(parser, known, column);
        }
        try {
          scalar(parser, token, type, column, into);
        } catch (FormatException | JacksonException e) {
          throw e;
        } catch (RuntimeException e) {
          throw bad(parser, known, column);
        }
      }
    }
  }

  private static void scalar(
      JsonParser parser, JsonToken token, ColumnType type, int column, RowBuilder into) {
    switch (type.kind()) {
      case SMALLINT -> into.setLong(column, Casts.shortRange(integer(parser, token)));
      case INTEGER -> into.setLong(column, Casts.intRange(integer(parser, token)));
      case BIGINT -> into.setLong(column, integer(parser, token));
      case REAL, DOUBLE ->
          into.setDouble(
              column,
              token == JsonToken.VALUE_STRING
                  ? Casts.toDouble(parser.getString())
                  : parser.getDoubleValue());
      case DECIMAL -> into.setDecimal(column, decimal(parser, token));
      case TIMESTAMP ->
          into.setLong(
              column,
              token == JsonToken.VALUE_STRING
                  ? TimestampText.parse(
                      parser.getStringCharacters(),
                      parser.getStringOffset(),
                      parser.getStringLength())
                  : Math.multiplyExact(integer(parser, token), 1000L));
      case VARBINARY -> {
        byte[] decoded = Base64.getDecoder().decode(parser.getString());
        into.setBytes(column, decoded, 0, decoded.length);
      }
      case DATE -> into.setLong(column, Casts.toDate(parser.getString()));
      case TIME -> into.setLong(column, Casts.toTime(parser.getString()));
      default -> throw new IllegalStateException("no " + type.sql() + " in JSON");
    }
  }

  private static BigDecimal decimal(JsonParser parser, JsonToken token) {
    return token == JsonToken.VALUE_STRING
        ? new BigDecimal(parser.getString().strip())
        : parser.getDecimalValue();
  }

  /** A whole number; 12.0 is one, 12.5 is not. */
  private static long integer(JsonParser parser, JsonToken token) {
    return token == JsonToken.VALUE_NUMBER_INT
        ? parser.getLongValue()
        : decimal(parser, token).longValueExact();
  }

  private List<Object> readArray(
      JsonParser parser, Fields known, int column, ColumnType elementType) {
    if (parser.currentToken() != JsonToken.START_ARRAY) {
      throw bad(parser, known, column);
    }
    Column declared = known.schema.column(column);
    Schema one = Schema.of(new Column(declared.name(), elementType.withNullable(true)));
    Fields element = new Fields(one, FieldTree.of(one, Origins.NONE, known.path));
    RowBuilder builder = new RowBuilder(one);
    List<Object> values = new ArrayList<>();
    FormatException failure = null;
    for (JsonToken token; (token = parser.nextToken()) != JsonToken.END_ARRAY; ) {
      builder.clear();
      try {
        read(parser, token, element, 0, builder);
        values.add(builder.boxed(0));
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

  private String copy(JsonParser parser) {
    StringWriter out = new StringWriter();
    try (JsonGenerator generator = factory.createGenerator(ObjectWriteContext.empty(), out)) {
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
