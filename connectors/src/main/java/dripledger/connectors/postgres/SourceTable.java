package dripledger.connectors.postgres;

import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * A table at the source as its catalog describes it.
 *
 * @param identity what updates and deletes carry of the old row: {@code d}efault (the primary key),
 *     {@code f}ull, an {@code i}ndex, or {@code n}othing
 * @param key the primary key, or the columns of the index that is the identity
 * @param parent the partitioned table that it is a partition of, or null
 */
record SourceTable(
    String schema,
    String name,
    List<Column> columns,
    List<String> key,
    String identity,
    String parent) {

  /**
   * Reads a table's description.
   *
   * @param qualified {@code schema.table}, or a table in {@code public}
   * @throws EngineException (NOT_FOUND) if it is not there
   */
  static SourceTable of(Connection c, String qualified) throws SQLException {
    int dot = qualified.indexOf('.');
    String schema = dot < 0 ? "public" : qualified.substring(0, dot);
    String name = qualified.substring(dot + 1);
    List<Column> columns = new ArrayList<>();
    String identity = null;
    String parent = null;
    try (PreparedStatement s =
        c.prepareStatement(
            "SELECT a.attname, a.atttypid, a.atttypmod, a.attnotnull, c.relreplident,"
                + " (SELECT pn.nspname || '.' || p.relname FROM pg_partition_ancestors(c.oid) g"
                + " JOIN pg_class p ON p.oid = g.relid JOIN pg_namespace pn ON pn.oid = p.relnamespace"
                + " WHERE c.relispartition AND NOT p.relispartition)"
                + " FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace"
                + " JOIN pg_attribute a ON a.attrelid = c.oid"
                + " WHERE n.nspname = ? AND c.relname = ? AND c.relkind IN ('r', 'p')"
                + " AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''"
                + " ORDER BY a.attnum")) {
      s.setString(1, schema);
      s.setString(2, name);
      try (ResultSet r = s.executeQuery()) {
        while (r.next()) {
          ColumnType type = PostgresTypes.type(r.getInt(2), r.getInt(3));
          columns.add(new Column(r.getString(1), type.withNullable(!r.getBoolean(4))));
          identity = r.getString(5);
          parent = r.getString(6);
        }
      }
    }
    if (identity == null) {
      String near =
          PostgresAccess.value(
              c,
              "SELECT string_agg(schemaname || '.' || tablename, ', ' ORDER BY 1) FROM pg_tables"
                  + " WHERE schemaname NOT IN ('pg_catalog', 'information_schema')");
      throw new EngineException(
          Code.NOT_FOUND,
          "option \"table\": there is no table \"" + schema + "." + name + "\"",
          near == null ? "the database has no tables" : "there are " + near);
    }
    String key =
        PostgresAccess.value(
            c,
            "SELECT string_agg(a.attname, chr(1) ORDER BY k.place) FROM pg_index i"
                + " JOIN pg_class c ON c.oid = i.indrelid JOIN pg_namespace n ON n.oid = c.relnamespace"
                + " CROSS JOIN LATERAL unnest(i.indkey::int2[]) WITH ORDINALITY AS k (attnum, place)"
                + " JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum = k.attnum"
                + " WHERE n.nspname = ? AND c.relname = ?"
                + (identity.equals("i") ? " AND i.indisreplident" : " AND i.indisprimary"),
            schema,
            name);
    return new SourceTable(
        schema,
        name,
        columns,
        key == null ? List.of() : Arrays.asList(key.split("\u0001")),
        identity,
        parent);
  }

  /** What stands in the way of following the table, or null. */
  String obstacle() {
    if (parent != null) {
      return "it is a partition of " + parent + ", whose changes are told as a whole";
    }
    if (identity.equals("n")) {
      return "its REPLICA IDENTITY is NOTHING, so changes do not say which row they are of";
    }
    if (key.isEmpty()) {
      return identity.equals("f")
          ? "it has no primary key, so its rows cannot be told apart"
          : "it has no primary key, so updates and deletes do not say which row they are of,"
              + " and publishing it would make them fail";
    }
    return null;
  }

  /** What to do about {@link #obstacle}. */
  String remedy() {
    if (parent != null) {
      return "write table '" + parent + "'";
    }
    return identity.equals("n")
        ? "there: ALTER TABLE " + qualified() + " REPLICA IDENTITY DEFAULT (or USING INDEX …)"
        : "there: ALTER TABLE "
            + qualified()
            + " ADD PRIMARY KEY (…), or REPLICA IDENTITY USING INDEX"
            + " with a unique index on NOT NULL columns";
  }

  String qualified() {
    return schema + "." + name;
  }
}
