package dripledger.server.wire;

import dripledger.engine.access.Caller;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.query.PointRead;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.engine.statement.Session;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/**
 * Statements that were prepared, for all connections: each is planned once for its text and the
 * types of its parameters, as long as the catalog stays the same. Safe from any thread.
 */
final class Preparations {
  private static final int KEPT = 500;
  private static final int MOST_PARAMETERS = 1000;

  private record Key(String role, String text, List<Integer> oids) {}

  private record Entry(Catalog catalog, Prepared prepared) {}

  private final Origins origins;

  private final Map<Key, Entry> kept =
      new LinkedHashMap<>(64, 0.75f, true) {
        private static final long serialVersionUID = 1L;

        @Override
        protected boolean removeEldestEntry(Map.Entry<Key, Entry> eldest) {
          return size() > KEPT;
        }
      };

  /** Says where the columns of an answer are from. */
  interface Origins {
    List<Field> fields(SqlFrontEnd.Described described, Caller caller);
  }

  Preparations(Origins origins) {
    this.origins = origins;
  }

  private static Key key(String text, int[] oids, Session session) {
    return new Key(session.caller().role(), text, Arrays.stream(oids).boxed().toList());
  }

  /** The statement, if it was prepared before and still means the same. */
  Prepared known(String text, int[] oids, Session session) {
    Key key = key(text, oids, session);
    synchronized (kept) {
      Entry entry = kept.get(key);
      return entry != null && entry.catalog == session.catalog() ? entry.prepared : null;
    }
  }

  /**
   * Prepares a statement for the engine.
   *
   * @param oids the types that the client says, 0 where it does not
   */
  Prepared engine(StatementText statement, int[] oids, Session session) {
    Catalog catalog = session.catalog();
    Map<String, ColumnType> declared = new HashMap<>();
    for (int i = 0; i < oids.length; i++) {
      ColumnType type = WireType.columnType(oids[i]);
      if (type != null) {
        declared.put("$" + (i + 1), type);
      }
    }
    SqlFrontEnd.Described described = session.describe(statement.text(), declared);
    int count = oids.length;
    for (String name : described.parameters().keySet()) {
      if (name.startsWith("$")) {
        count = Math.max(count, number(name));
      }
    }
    List<ColumnType> parameters = new ArrayList<>();
    int[] told = new int[count];
    for (int i = 0; i < count; i++) {
      String name = "$" + (i + 1);
      ColumnType type =
          described
              .parameters()
              .getOrDefault(name, declared.getOrDefault(name, ColumnType.of(Kind.VARCHAR)));
      parameters.add(type);
      told[i] =
          i < oids.length && oids[i] != 0 && declared.containsKey(name)
              ? oids[i]
              : WireType.of(type).oid();
    }
    List<Field> fields =
        described.columns() == null ? null : origins.fields(described, session.caller());
    Map<String, ColumnType> types = new HashMap<>();
    for (int i = 0; i < count; i++) {
      types.put("$" + (i + 1), parameters.get(i));
    }
    PointRead point = fields == null ? null : session.pointRead(statement.text(), types);
    Prepared prepared =
        new Prepared(statement, Prepared.Kind.ENGINE, parameters, told, fields, point);
    synchronized (kept) {
      kept.put(key(statement.text(), oids, session), new Entry(catalog, prepared));
    }
    return prepared;
  }

  /** The number of a parameter that is written as $ and its number. */
  static int number(String name) {
    int number = name.length() > 6 ? Integer.MAX_VALUE : Integer.parseInt(name.substring(1));
    if (number > MOST_PARAMETERS) {
      throw new WireError("54000", "more than " + MOST_PARAMETERS + " parameters", null);
    }
    return number;
  }
}
