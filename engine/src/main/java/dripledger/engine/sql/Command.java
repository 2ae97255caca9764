package dripledger.engine.sql;

import dripledger.engine.access.Privilege;
import dripledger.engine.access.Target;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.catalog.Upkeep;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.row.Column;
import dripledger.engine.row.Schema;
import dripledger.engine.row.SortKey;
import java.util.List;
import java.util.Map;
import java.util.Set;

/** A checked statement, ready to be carried out. Immutable. */
public sealed interface Command {
  /** What makes an object. */
  sealed interface Create extends Command
      permits CreateConnection,
          CreateStream,
          CreateTable,
          CreateView,
          CreateMaterializedView,
          CreateSink,
          CreateEndpoint {
    String name();

    IfExists ifExists();
  }

  /** How to treat a name that is there already, or is not. */
  enum IfExists {
    FAIL,
    SKIP,
    REPLACE
  }

  record CreateConnection(
      String name,
      IfExists ifExists,
      String type,
      Map<String, CatalogObject.Connection.Option> options)
      implements Create {}

  /** {@code schema} is null if the columns are to be read off the source. */
  record CreateStream(
      String name,
      IfExists ifExists,
      Schema schema,
      int eventTime,
      long latenessMicros,
      Origins origins,
      SourceSpec source)
      implements Create {}

  /** {@code schema} and {@code primaryKey} are null if they are to be read off the source. */
  record CreateTable(
      String name,
      IfExists ifExists,
      Schema schema,
      int[] primaryKey,
      Origins origins,
      SourceSpec source)
      implements Create {}

  /** {@code kind} is STREAM or CONNECTION; options not named keep their values. */
  record AlterOptions(
      String kind, String name, Map<String, CatalogObject.Connection.Option> options)
      implements Command {}

  /** {@code replay}: events from before have the column too, where they still can be read. */
  record AddColumn(
      String name, Column column, CatalogObject.Meta meta, List<String> path, boolean replay)
      implements Command {}

  /**
   * CREATE INDEX or DROP INDEX.
   *
   * @param columns of the relation, most significant first
   * @param quiet whether it may be there already, or be missing
   */
  record Index(
      boolean drop, boolean quiet, String relation, List<Integer> columns, int line, int column)
      implements Command {}

  record RefreshTable(String name) implements Command {}

  record CreateView(
      String name, IfExists ifExists, Schema schema, String query, Set<Long> dependsOn)
      implements Create {}

  /** {@code key} is null if none was declared or proven. */
  record CreateMaterializedView(
      String name,
      IfExists ifExists,
      Schema schema,
      PlanNode plan,
      int[] key,
      boolean keyProven,
      Set<Long> dependsOn,
      Upkeep upkeep,
      boolean keepsLate)
      implements Create {}

  /** {@code key} is null if none was declared or proven. */
  record CreateSink(
      String name,
      IfExists ifExists,
      Schema schema,
      PlanNode plan,
      int[] key,
      CatalogObject.Sink.Rows rows,
      boolean snapshot,
      Set<Long> dependsOn,
      SourceSpec target,
      Upkeep upkeep)
      implements Create {}

  record RefreshView(String name) implements Command {}

  record RefreshSink(String name) implements Command {}

  record Drop(String kind, String name, boolean ifExists, boolean cascade, int line, int column)
      implements Command {}

  /** A SELECT. */
  record Query(QueryPlan plan) implements Command {}

  record Follow(QueryPlan plan) implements Command {}

  /** The plan's rows are whole rows of the target. */
  record Insert(String target, PlanNode rows) implements Command {}

  /**
   * The plan's rows are the old row, then the new values.
   *
   * @param columns which columns of the target the new values are for
   */
  record Update(String target, PlanNode rows, int[] columns) implements Command {}

  /** The plan's rows are the rows to go. */
  record Delete(String target, PlanNode rows) implements Command {}

  /**
   * @param view the view that has the plan, or would have it; null for a query
   * @param planned whether it would be made
   */
  record Explain(boolean analyze, PlanNode plan, String view, boolean planned) implements Command {}

  /** What a delivery that is not made yet would carry first. */
  record ExplainSink(CreateSink sink) implements Command {}

  record Describe(String name) implements Command {}

  /** The statement that makes the thing as it is now. */
  record ShowCreate(String name) implements Command {}

  /**
   * CREATE ENDPOINT.
   *
   * @param description or null
   * @param maxRead 0 for any number
   * @param pageRows rows of a page; 0 if it is answered as a whole
   * @param cacheMillis for how long an answer is given again; 0 for never
   * @param query as text, with its parameters
   */
  record CreateEndpoint(
      String name,
      IfExists ifExists,
      Schema schema,
      List<dripledger.engine.catalog.EndpointParameter> parameters,
      String description,
      int maxRows,
      long maxRead,
      int pageRows,
      long cacheMillis,
      String query,
      Set<Long> dependsOn)
      implements Create {}

  /**
   * CREATE ROLE.
   *
   * @param bounds by the names of options
   */
  record CreateRole(String name, boolean skip, Map<String, Long> bounds) implements Command {}

  /** Bounds not named stay. */
  record AlterRole(String name, Map<String, Long> bounds) implements Command {}

  /** GRANT, or REVOKE. */
  record Grant(boolean revoke, Map<Target, List<Privilege>> privileges, List<String> roles)
      implements Command {}

  /** Ends a statement that is being carried out. */
  record Cancel(long number) implements Command {}

  /** {@code from} is the connection to look behind, or null. */
  record Show(String kind, String from) implements Command {}

  /** BEGIN, COMMIT or ROLLBACK. */
  record Transaction(Step step) implements Command {
    /** Which of them. */
    public enum Step {
      BEGIN,
      COMMIT,
      ROLLBACK
    }
  }

  /** Whether it leaves everything as it is. */
  default boolean onlyReads() {
    return this instanceof Query
        || this instanceof Follow
        || this instanceof Explain
        || this instanceof ExplainSink
        || this instanceof Describe
        || this instanceof Show
        || this instanceof ShowCreate;
  }

  /**
   * A SELECT as a plan and what is done to its rows at the end.
   *
   * @param outputs which columns of the plan are answered, in order, under which names
   * @param order what to sort by, most significant first
   * @param offset rows passed over
   * @param limit rows answered at most, or −1
   */
  record QueryPlan(
      PlanNode plan,
      int[] outputs,
      List<Column> columns,
      List<SortKey> order,
      long offset,
      long limit,
      int offsetParameter,
      int limitParameter) {
    /** One whose numbers of rows are known. */
    public QueryPlan(
        PlanNode plan,
        int[] outputs,
        List<Column> columns,
        List<SortKey> order,
        long offset,
        long limit) {
      this(plan, outputs, columns, order, offset, limit, -1, -1);
    }
  }
}
