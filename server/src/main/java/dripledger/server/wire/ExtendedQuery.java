package dripledger.server.wire;

import dripledger.engine.query.PointRead;
import dripledger.engine.row.ColumnType;
import dripledger.engine.sql.Argument;
import dripledger.engine.statement.Session;
import java.io.IOException;
import java.util.Arrays;
import java.util.HashMap;
import java.util.List;
import java.util.Map;

/**
 * Prepared statements and portals of a connection: a statement is prepared, given values, carried
 * out, each by a message of its own. One thread.
 */
final class ExtendedQuery {
  private static final int MOST_NAMED = 1000; // prepared statements, and portals

  private final WireSession session;
  private final WireServer server;
  private final WireInput in;
  private final WireOutput out;
  private final Session engine;
  private final Map<String, Prepared> statements = new HashMap<>();
  private final Map<String, Bound> portals = new HashMap<>();

  private record Bound(StatementText statement, Portal portal, Formats formats) {}

  ExtendedQuery(WireSession session, WireServer server, WireInput in, WireOutput out) {
    this.session = session;
    this.server = server;
    this.in = in;
    this.out = out;
    engine = session.engine();
  }

  /** Prepares a statement. */
  void parse() throws IOException {
    String name = in.text();
    String text = in.text();
    int[] oids = new int[in.count(4)];
    for (int i = 0; i < oids.length; i++) {
      oids[i] = in.int32();
    }
    if (!name.isEmpty() && statements.containsKey(name)) {
      throw new WireError("42P05", "the statement \"" + name + "\" is prepared already", null);
    }
    if (statements.size() >= MOST_NAMED) {
      throw new WireError("54000", "more than " + MOST_NAMED + " prepared statements", null);
    }
    session.about(null);
    Prepared known = server.preparations().known(text, oids, engine);
    statements.put(name, known != null ? known : prepare(text, oids));
    out.begin('1').end();
  }

  private Prepared prepare(String text, int[] oids) {
    List<StatementText> all = StatementText.split(text);
    if (all.size() > 1) {
      throw new WireError("42601", "one statement can be prepared at a time", null);
    }
    StatementText statement = all.isEmpty() ? new StatementText("", 0, List.of()) : all.get(0);
    session.refuseIfFailed(statement);
    Prepared.Kind kind = session.kind(statement);
    if (kind == Prepared.Kind.CATALOG) {
      return server.catalog().prepare(statement, oids, engine.caller());
    }
    boolean lists =
        statement.begins("show") || statement.begins("describe") || statement.begins("explain");
    if (kind == Prepared.Kind.ENGINE && !lists && !statement.begins("follow")) {
      return server.preparations().engine(statement, oids, engine);
    }
    // What these answer is known by asking, which changes nothing.
    List<Field> fields = null;
    if (kind != Prepared.Kind.EMPTY && kind != Prepared.Kind.COPY) {
      try (Portal portal = session.portal(statement)) {
        fields = portal.fields();
      }
    }
    return new Prepared(statement, kind, List.of(), new int[0], fields, null);
  }

  private Prepared statement(String name) {
    Prepared prepared = statements.get(name);
    if (prepared == null) {
      throw new WireError("26000", "there is no prepared statement \"" + name + "\"", null);
    }
    return prepared;
  }

  /** Gives a statement its values. */
  void bind() throws IOException {
    String portal = in.text();
    Prepared prepared = statement(in.text());
    session.about(prepared.statement());
    Formats sent = Formats.read(in);
    int count = in.count(4);
    if (count != prepared.parameters().size()) {
      throw new WireError(
          "08P01",
          count + " values for a statement with " + prepared.parameters().size() + " parameters",
          null);
    }
    Object[] values = new Object[count];
    for (int i = 0; i < count; i++) {
      int length = in.int32();
      if (length >= 0) {
        int at = in.bytes(length);
        ColumnType type = prepared.parameters().get(i);
        values[i] =
            WireParameters.read("$" + (i + 1), type, in.buffer(), at, length, sent.isBinary(i));
      }
    }
    Formats wanted = Formats.read(in);
    Bound before = portals.get(portal);
    if (before != null) {
      if (!portal.isEmpty()) {
        throw new WireError("42P03", "the portal \"" + portal + "\" is open already", null);
      }
      before.portal.close();
    }
    if (portals.size() >= MOST_NAMED) {
      throw new WireError("54000", "more than " + MOST_NAMED + " portals", null);
    }
    session.began(prepared.statement());
    portals.put(portal, new Bound(prepared.statement(), portal(prepared, values), wanted));
    out.begin('2').end();
  }

  private Portal portal(Prepared prepared, Object[] values) {
    PointRead point = prepared.point();
    if (point != null && point.holds(engine.catalog()) && !engine.hasChanges()) {
      Object[] key = key(point, values);
      if (key != null) {
        return new Portals.Point(
            engine, point, key, prepared.fields(), () -> carriedOut(prepared, values));
      }
    }
    return switch (prepared.kind()) {
      case EMPTY -> Portals.done("", () -> {});
      case SESSION -> session.ownPortal(prepared.statement());
      case COPY -> session.copy(prepared.statement());
      case CATALOG ->
          server.catalog().portal(prepared.statement(), Arrays.asList(values), engine.caller());
      case ENGINE -> carriedOut(prepared, values);
    };
  }

  private Portal carriedOut(Prepared prepared, Object[] values) {
    Map<String, Object> arguments = new HashMap<>();
    for (int i = 0; i < values.length; i++) {
      arguments.put("$" + (i + 1), new Argument(prepared.parameters().get(i), values[i]));
    }
    return session.engine(prepared.statement(), arguments, true, prepared.fields());
  }

  /** The values in the order of a key; null if one does not fit its column. */
  private static Object[] key(PointRead point, Object[] values) {
    String[] parameters = point.parameters();
    Object[] key = new Object[parameters.length];
    for (int i = 0; i < key.length; i++) {
      int number = Integer.parseInt(parameters[i], 1, parameters[i].length(), 10);
      key[i] = values[number - 1];
      ColumnType.Kind kind = point.type(i).kind();
      boolean fits =
          kind == ColumnType.Kind.VARCHAR
              ? key[i] instanceof String
              : key[i] instanceof Long integer && kind.holds(integer);
      if (!fits) {
        return null;
      }
    }
    return key;
  }

  /** Tells what a statement or portal takes and answers. */
  void describe() throws IOException {
    boolean statement = in.int8() == 'S';
    String name = in.text();
    if (statement) {
      Prepared prepared = statement(name);
      session.about(prepared.statement());
      out.begin('t').int16(prepared.oids().length);
      for (int oid : prepared.oids()) {
        out.int32(oid);
      }
      out.end();
      describe(prepared.fields(), Formats.TEXT);
    } else {
      Bound bound = bound(name);
      describe(bound.portal.fields(), bound.formats);
    }
  }

  private void describe(List<Field> fields, Formats formats) throws IOException {
    if (fields == null) {
      out.begin('n').end();
    } else {
      Field.describe(out, fields, formats);
    }
  }

  private Bound bound(String name) {
    Bound bound = portals.get(name);
    Portal cursor = bound == null ? session.cursor(name) : null;
    if (cursor != null) { // which is a portal too
      return new Bound(new StatementText("", 0, List.of()), cursor, Formats.TEXT);
    }
    if (bound == null) {
      throw new WireError("34000", "there is no portal \"" + name + "\"", null);
    }
    return bound;
  }

  /** Carries a portal out, or goes on with it. */
  void execute() throws IOException {
    Bound bound = bound(in.text());
    int most = in.int32();
    session.began(bound.statement);
    session.beforeSync(bound.statement);
    long rows = bound.portal.send(out, bound.formats, Math.max(0, most));
    String tag = bound.portal.hasEnded() ? bound.portal.tag(rows) : null;
    if (tag == null) {
      out.begin('s').end();
    } else if (tag.isEmpty()) {
      out.begin('I').end();
    } else {
      out.begin('C').text(tag).end();
    }
  }

  /** Closes a statement or portal. */
  void close() throws IOException {
    boolean statement = in.int8() == 'S';
    String name = in.text();
    if (statement) {
      statements.remove(name);
    } else {
      Bound bound = portals.remove(name);
      if (bound != null) {
        bound.portal.close();
      }
    }
    out.begin('3').end();
  }

  /** Forgets a prepared statement; all if the name is null. */
  void deallocate(String name) {
    if (name == null) {
      statements.clear();
    } else if (statements.remove(name) == null) {
      throw new WireError("26000", "there is no prepared statement \"" + name + "\"", null);
    }
  }

  void closePortals() {
    portals.values().forEach(b -> b.portal.close());
    portals.clear();
  }
}
