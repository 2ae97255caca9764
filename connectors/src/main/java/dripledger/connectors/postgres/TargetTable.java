package dripledger.connectors.postgres;

import dripledger.connectors.ConnectionOptions;
import dripledger.engine.catalog.CatalogObject.Sink;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import java.sql.Connection;
import java.sql.SQLException;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Set;
import java.util.function.IntFunction;
import java.util.stream.Collectors;
import java.util.stream.IntStream;

/**
 * A table that is delivered to, and the statements that do it, with places for {@link #names}: the
 * server itself writes names into them. Immutable.
 *
 * @param markColumn the column that says that a row has gone, or null if it goes
 * @param keepsGone whether rows that go stay as they are
 * @param batchColumn the column that takes the number of the batch, or null
 */
record TargetTable(
    Sink sink,
    String schema,
    String name,
    boolean isMade,
    boolean keepsGone,
    String markColumn,
    String batchColumn) {
  private static final Set<String> OPTIONS = Set.of("table", "create", "deletes", "batch_column");
  private static final String MARK = "mark ";
  private static final int FIRST = 3; // the place of the first column

  /** Reads the options. */
  static TargetTable of(Sink sink) {
    SourceSpec target = sink.target();
    ConnectionOptions.check(target.options().keySet(), OPTIONS, "a table that is delivered to");
    String table = target.option("table");
    if (table == null) {
      throw invalid(
          "which table of \"" + target.connection() + "\"?",
          "write TO " + target.connection() + " (table 'schema.name')");
    }
    if (sink.rows() == Sink.Rows.CHANGES) {
      throw invalid(
          "a table takes rows, not what was and what is", "write rows 'upsert' or 'append'");
    }
    if (target.format() != null) {
      throw invalid("a table has no FORMAT", null);
    }
    String create = target.option("create");
    if (create != null && !create.equals("if missing")) {
      throw invalid("option \"create\" is 'if missing', not '" + create + "'", null);
    }
    String deletes = target.option("deletes", "remove");
    boolean marks = deletes.startsWith(MARK);
    if (!marks && !deletes.equals("remove") && !deletes.equals("keep")) {
      throw invalid(
          "option \"deletes\": '" + deletes + "' is not known",
          "write 'remove', 'keep' or 'mark COLUMN'");
    }
    if (target.option("batch_column") != null && sink.rows() != Sink.Rows.APPEND) {
      throw invalid("option \"batch_column\" is for rows that are appended", null);
    }
    int dot = table.indexOf('.');
    return new TargetTable(
        sink,
        dot < 0 ? "public" : table.substring(0, dot),
        table.substring(dot + 1),
        create != null,
        deletes.equals("keep"),
        marks ? deletes.substring(MARK.length()).strip() : null,
        target.option("batch_column"));
  }

  private static EngineException invalid(String message, String hint) {
    return new EngineException(Code.INVALID, message, hint);
  }

  /** The names that statements have places for. */
  String[] names() {
    List<String> names = new ArrayList<>(List.of(schema, name));
    sink.schema().columns().forEach(c -> names.add(c.name()));
    if (extra() != null) {
      names.add(extra());
    }
    return names.toArray(new String[0]);
  }

  /** The one more column that the table has, or null. */
  private String extra() {
    return markColumn != null ? markColumn : batchColumn;
  }

  private String extraPlace() {
    return "%" + (FIRST + columns()) + "$I";
  }

  private int columns() {
    return sink.schema().size();
  }

  private static String place(int column) {
    return "%" + (FIRST + column) + "$I";
  }

  private String list(IntFunction<String> each) {
    return IntStream.range(0, columns()).mapToObj(each).collect(Collectors.joining(", "));
  }

  private String matches() {
    return Arrays.stream(sink.key())
        .mapToObj(
            k -> {
              boolean nullable = sink.schema().type(k).nullable();
              return "t." + place(k) + (nullable ? " IS NOT DISTINCT FROM s." : " = s.") + place(k);
            })
        .collect(Collectors.joining(" AND "));
  }

  String schemaStatement() {
    return "CREATE SCHEMA IF NOT EXISTS %1$I";
  }

  String createStatement() {
    String columns = list(c -> place(c) + " " + type(sink.schema().column(c)));
    if (markColumn != null) {
      columns += ", " + extraPlace() + " boolean NOT NULL DEFAULT false";
    } else if (batchColumn != null) {
      columns += ", " + extraPlace() + " bigint";
    }
    if (sink.rows() == Sink.Rows.UPSERT) {
      String key =
          Arrays.stream(sink.key()).mapToObj(TargetTable::place).collect(Collectors.joining(", "));
      boolean nullable = Arrays.stream(sink.key()).anyMatch(k -> sink.schema().type(k).nullable());
      columns += (nullable ? ", UNIQUE NULLS NOT DISTINCT (" : ", PRIMARY KEY (") + key + ")";
    }
    return "CREATE TABLE IF NOT EXISTS %1$I.%2$I (" + columns + ")";
  }

  private static String type(Column column) {
    return name(column.type()) + (column.type().nullable() ? "" : " NOT NULL");
  }

  private static String name(ColumnType type) {
    return switch (type.kind()) {
      case BOOLEAN -> "boolean";
      case SMALLINT -> "smallint";
      case INTEGER -> "integer";
      case BIGINT -> "bigint";
      case REAL -> "real";
      case DOUBLE -> "double precision";
      case DECIMAL -> "numeric(" + type.precision() + ", " + type.scale() + ")";
      case VARBINARY -> "bytea";
      case DATE -> "date";
      case TIME -> "time";
      case TIMESTAMP -> "timestamp";
      case ROW, ARRAY -> "jsonb";
      default -> "text";
    };
  }

  /** A table of the session with the columns that are delivered, and whether the row has gone. */
  String stageStatement() {
    return "CREATE TEMP TABLE drip_stage ON COMMIT DELETE ROWS AS SELECT "
        + list(TargetTable::place)
        + ", false AS drip_gone FROM %1$I.%2$I WITH NO DATA";
  }

  String copyStatement() {
    return "COPY pg_temp.drip_stage FROM STDIN";
  }

  /** Of the columns by which rows find their place. */
  String analyzeStatement() {
    String columns =
        Arrays.stream(sink.key()).mapToObj(TargetTable::place).collect(Collectors.joining(", "));
    return "ANALYZE pg_temp.drip_stage (" + columns + ")";
  }

  String appendStatement() {
    return "COPY %1$I.%2$I ("
        + list(TargetTable::place)
        + (batchColumn == null ? "" : ", " + extraPlace())
        + ") FROM STDIN";
  }

  /** Takes out what has gone, or marks it; null if it stays as it is. */
  String removeStatement() {
    if (keepsGone) {
      return null;
    }
    return markColumn == null
        ? "DELETE FROM %1$I.%2$I AS t USING pg_temp.drip_stage AS s WHERE s.drip_gone AND "
            + matches()
        : "UPDATE %1$I.%2$I AS t SET "
            + extraPlace()
            + " = true FROM pg_temp.drip_stage AS s WHERE s.drip_gone AND NOT t."
            + extraPlace()
            + " AND "
            + matches();
  }

  /** Changes the rows that are there and differ. */
  String changeStatement() {
    String differ = "(" + list(c -> "t." + place(c)) + ")";
    String from = "(" + list(c -> "s." + place(c)) + ")";
    String marked = markColumn == null ? "" : ", " + extraPlace() + " = false";
    return "UPDATE %1$I.%2$I AS t SET "
        + list(c -> place(c) + " = s." + place(c))
        + marked
        + " FROM pg_temp.drip_stage AS s WHERE NOT s.drip_gone AND "
        + matches()
        + " AND ("
        + differ
        + " IS DISTINCT FROM "
        + from
        + (markColumn == null ? "" : " OR t." + extraPlace())
        + ")";
  }

  /** Puts in the rows that are not there. */
  String putStatement() {
    return "INSERT INTO %1$I.%2$I ("
        + list(TargetTable::place)
        + ") SELECT "
        + list(c -> "s." + place(c))
        + " FROM pg_temp.drip_stage AS s WHERE NOT s.drip_gone AND NOT EXISTS (SELECT 1 FROM"
        + " %1$I.%2$I AS t WHERE "
        + matches()
        + ")";
  }

  /** Refuses what does not fit the table that is there. */
  void check(Connection c) throws SQLException {
    SourceTable there = SourceTable.of(c, schema + "." + name);
    List<String> known = there.columns().stream().map(Column::name).toList();
    for (String column : Arrays.asList(names()).subList(2, names().length)) {
      if (!known.contains(column)) {
        throw invalid(
            "table " + there.qualified() + " has no column \"" + column + "\"",
            "it has " + String.join(", ", known));
      }
    }
  }
}
