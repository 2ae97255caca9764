package dripledger.connectors.postgres;

import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.stream.Collectors;

/**
 * What a partitioned table of the source is made of. Its rows come and go by changes of rows, which
 * are followed, and also with whole partitions (attached, detached, dropped, truncated), of which a
 * change feed says nothing: so what there is must be compared with what there was. Immutable.
 *
 * @param files of each partition by its number at the source: where its rows are stored, which a
 *     truncation changes
 */
record Partitions(Map<Long, Long> files) {
  /** A table without partitions. */
  static final Partitions NONE = new Partitions(Map.of());

  /**
   * A partition as the source's catalog has it now.
   *
   * @param name with its schema
   * @param born whether it was made as a partition, so that all its rows came through the table
   */
  private record Part(long number, long file, String name, boolean born) {}

  private static List<Part> read(Connection c, String schema, String table) throws SQLException {
    List<Part> parts = new ArrayList<>();
    // The entries of system columns are written when a table is made and never again.
    try (PreparedStatement s =
        c.prepareStatement(
            "WITH RECURSIVE part AS ("
                + "SELECT i.inhrelid, i.xmin::text AS tied FROM pg_inherits i"
                + " JOIN pg_class c ON c.oid = i.inhparent JOIN pg_namespace n ON n.oid = c.relnamespace"
                + " WHERE n.nspname = ? AND c.relname = ? AND c.relkind = 'p'"
                + " UNION ALL SELECT i.inhrelid, i.xmin::text FROM pg_inherits i"
                + " JOIN part ON i.inhparent = part.inhrelid)"
                + " SELECT c.oid, c.relfilenode, n.nspname || '.' || c.relname, a.xmin::text = part.tied"
                + " FROM part JOIN pg_class c ON c.oid = part.inhrelid"
                + " JOIN pg_namespace n ON n.oid = c.relnamespace"
                + " JOIN pg_attribute a ON a.attrelid = c.oid AND a.attname = 'tableoid'"
                + " ORDER BY 1")) {
      s.setString(1, schema);
      s.setString(2, table);
      try (ResultSet r = s.executeQuery()) {
        while (r.next()) {
          parts.add(new Part(r.getLong(1), r.getLong(2), r.getString(3), r.getBoolean(4)));
        }
      }
    }
    return parts;
  }

  /** The partitions as the connection's snapshot has them. */
  static Partitions of(Connection c, String schema, String table) throws SQLException {
    Map<Long, Long> files = new TreeMap<>();
    for (Part part : read(c, schema, table)) {
      files.put(part.number(), part.file());
    }
    return new Partitions(files);
  }

  /**
   * Compares with what there is now.
   *
   * @return what has come or gone with a whole partition, for the user, or null
   */
  String unsaid(Connection c, String schema, String table) throws SQLException {
    Map<Long, Long> left = new TreeMap<>(files);
    for (Part part : read(c, schema, table)) {
      Long file = left.remove(part.number());
      if (file == null && !part.born()) {
        return "partition " + part.name() + " was attached at the source, with the rows it had";
      }
      if (file != null && file != part.file()) {
        return "partition " + part.name() + " was truncated or rewritten at the source";
      }
    }
    return left.isEmpty()
        ? null
        : (left.size() == 1 ? "a partition was" : left.size() + " partitions were")
            + " dropped or detached at the source, with the rows they had";
  }

  /** As text of digits, dots and plus signs. */
  String text() {
    return files.entrySet().stream()
        .map(e -> e.getKey() + "." + e.getValue())
        .collect(Collectors.joining("+"));
  }

  /** From what {@link #text} made. */
  static Partitions parse(String text) {
    Map<Long, Long> files = new TreeMap<>();
    for (String part : text.split("\\+")) {
      if (!part.isEmpty()) {
        int dot = part.indexOf('.');
        files.put(Long.parseLong(part.substring(0, dot)), Long.parseLong(part.substring(dot + 1)));
      }
    }
    return new Partitions(files);
  }
}
