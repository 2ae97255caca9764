package dripledger.grammar;

import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.apache.calcite.sql.SqlDataTypeSpec;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlNode;

/**
 * What one of our own statements says, as parsed and not yet checked. Lists may be null if absent.
 */
public sealed interface Statement {

  record CreateStream(
      SqlIdentifier name, boolean replace, boolean ifNotExists, Definition definition)
      implements Statement {}

  record CreateTable(
      SqlIdentifier name, boolean replace, boolean ifNotExists, Definition definition)
      implements Statement {}

  record CreateView(
      SqlIdentifier name,
      boolean replace,
      boolean ifNotExists,
      boolean materialized,
      List<SqlIdentifier> columns,
      List<SqlIdentifier> key,
      Map<String, SqlNode> options,
      SqlNode query)
      implements Statement {}

  /** Values of options are literals or {@link SecretName}s. */
  record CreateConnection(
      SqlIdentifier name,
      boolean replace,
      boolean ifNotExists,
      SqlIdentifier type,
      Map<String, SqlNode> options)
      implements Statement {}

  /** {@code target} has the options of FORMAT too. */
  record CreateSink(
      SqlIdentifier name,
      boolean replace,
      boolean ifNotExists,
      SqlIdentifier connection,
      Map<String, SqlNode> target,
      SqlIdentifier format,
      List<SqlIdentifier> key,
      Map<String, SqlNode> options,
      SqlNode query)
      implements Statement {}

  /** {@code description} may be null. */
  record CreateEndpoint(
      SqlIdentifier name,
      boolean replace,
      boolean ifNotExists,
      List<EndpointParameter> parameters,
      SqlNode description,
      Map<String, SqlNode> options,
      SqlNode query)
      implements Statement {}

  /** A parameter of an endpoint; {@code defaultValue}, {@code comment}, {@code check} or null. */
  record EndpointParameter(
      SqlIdentifier name,
      SqlDataTypeSpec type,
      SqlNode defaultValue,
      boolean optional,
      SqlNode comment,
      SqlNode check) {}

  /** {@code kind} is STREAM, TABLE, CONNECTION or SINK. */
  record AlterOptions(String kind, SqlIdentifier name, Map<String, SqlNode> options)
      implements Statement {}

  /** {@code definition} has the one new column. */
  record AddColumn(String kind, SqlIdentifier name, Definition definition, boolean replay)
      implements Statement {}

  record RefreshTable(SqlIdentifier name) implements Statement {}

  record RefreshView(SqlIdentifier name) implements Statement {}

  record RefreshSink(SqlIdentifier name) implements Statement {}

  record Drop(String kind, SqlIdentifier name, boolean ifExists, boolean cascade)
      implements Statement {}

  /**
   * CREATE INDEX or DROP INDEX.
   *
   * @param name null: an index is called by what it is on
   * @param quiet whether it may be there already, or be missing
   */
  record Index(
      boolean drop,
      boolean quiet,
      SqlIdentifier name,
      SqlIdentifier relation,
      List<SqlIdentifier> columns)
      implements Statement {}

  /** CANCEL n. */
  record CreateRole(SqlIdentifier name, boolean ifNotExists, Map<String, SqlNode> options)
      implements Statement {}

  /** GRANT, or REVOKE. */
  record Grant(boolean revoke, Rights rights, List<SqlIdentifier> roles) implements Statement {}

  /**
   * What may be done, and to what.
   *
   * @param privileges in capitals; null for all that there are
   * @param schema whether {@code on} are schemas
   */
  record Rights(List<String> privileges, boolean schema, List<SqlIdentifier> on) {}

  record Cancel(SqlNode number) implements Statement {}

  record Follow(SqlNode query) implements Statement {}

  /** {@code target} is a query, the name of a view, or a statement that would make one. */
  record Explain(boolean analyze, SqlNode target) implements Statement {}

  record Describe(SqlIdentifier name) implements Statement {}

  /** {@code from} is the connection to look behind, or null. */
  record Show(String kind, SqlIdentifier from) implements Statement {}

  record Transaction(Step step) implements Statement {
    /** What to do with the changes to local tables gathered so far. */
    public enum Step {
      BEGIN,
      COMMIT,
      ROLLBACK
    }
  }

  /** A statement of the language that this release does not carry out. */
  record Unsupported(String what) implements Statement {}

  /** The body of CREATE STREAM and CREATE TABLE, filled in by the parser as it goes. */
  final class Definition {
    private final List<ColumnDefinition> columns = new ArrayList<>();
    private List<SqlIdentifier> primaryKey;
    private SqlIdentifier eventTime;
    private SqlNode lateness;
    private SqlIdentifier connection;
    private Map<String, SqlNode> sourceOptions = new LinkedHashMap<>();
    private SqlIdentifier format;

    public void column(ColumnDefinition column) {
      columns.add(column);
    }

    public void primaryKey(List<SqlIdentifier> key) {
      primaryKey = key;
    }

    public void eventTime(SqlIdentifier column, SqlNode latenessOrNull) {
      eventTime = column;
      lateness = latenessOrNull;
    }

    public void source(
        SqlIdentifier connectionName, Map<String, SqlNode> options, SqlIdentifier formatOrNull) {
      connection = connectionName;
      sourceOptions = options;
      format = formatOrNull;
    }

    public List<ColumnDefinition> columns() {
      return columns;
    }

    /** The table constraint PRIMARY KEY (…), or null. */
    public List<SqlIdentifier> primaryKey() {
      return primaryKey;
    }

    public SqlIdentifier eventTime() {
      return eventTime;
    }

    public SqlNode lateness() {
      return lateness;
    }

    public SqlIdentifier connection() {
      return connection;
    }

    public Map<String, SqlNode> sourceOptions() {
      return sourceOptions;
    }

    public SqlIdentifier format() {
      return format;
    }
  }
}
