package dripledger.engine.sql;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.CatalogObject.Sink.Rows;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.catalog.Upkeep;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.TimeNode;
import dripledger.engine.row.Schema;
import dripledger.grammar.Statement;
import java.util.Arrays;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.Set;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;

/** The options of a delivery, and whether what its query says can be carried so. Stateless. */
final class SinkOptions {
  private SinkOptions() {}

  static Command.CreateSink of(
      Statement.CreateSink s,
      Command.QueryPlan query,
      Set<Long> dependsOn,
      SourceSpec target,
      Catalog catalog) {
    if (s.replace()) {
      throw SqlErrors.invalid(
          s.name(),
          "a sink cannot be replaced: what it has carried stays where it is",
          "DROP SINK, then CREATE SINK");
    }
    Map<String, SqlNode> options = s.options();
    for (Map.Entry<String, SqlNode> option : options.entrySet()) {
      if (!Set.of("rows", "start", "upkeep").contains(option.getKey())) {
        throw SqlErrors.invalid(
            option.getValue(),
            "no option \"" + option.getKey() + "\" of a sink",
            "there are rows, start and upkeep; those of the target stand behind TO");
      }
    }
    PlanNode plan = query.plan();
    Schema columns = new Schema(query.columns());
    int[] proven =
        plan.key() == null ? null : plan.key().stream().mapToInt(Integer::intValue).toArray();
    int[] key = proven;
    if (s.key() != null) {
      key = s.key().stream().mapToInt(k -> SqlFrontEnd.indexOf(columns, k)).toArray();
    }
    boolean table = target.option("table") != null;
    boolean grows = grows(plan, catalog);
    Rows rows = rows(options.get("rows"), grows, table, s.key() != null || proven != null);
    check(s, plan, grows, rows, key, proven);
    if (rows == Rows.APPEND && s.key() == null) {
      key = null;
    }
    return new Command.CreateSink(
        SqlFrontEnd.name(s.name()),
        SqlFrontEnd.ifExists(false, s.ifNotExists()),
        columns,
        plan,
        key,
        rows,
        snapshot(options.get("start"), rows == Rows.UPSERT),
        dependsOn,
        target,
        upkeep(options.get("upkeep")));
  }

  private static Rows rows(SqlNode option, boolean grows, boolean table, boolean keyed) {
    if (option == null) {
      boolean append = table ? !keyed : grows;
      return append ? Rows.APPEND : Rows.UPSERT;
    }
    String text = text(option);
    for (Rows rows : Rows.values()) {
      if (rows.word().equals(text)) {
        return rows;
      }
    }
    throw SqlErrors.invalid(
        option, "rows are 'append', 'upsert' or 'changes', not '" + text + "'", null);
  }

  /** Whether rows only ever come, or go for no other reason than that their time is over. */
  private static boolean grows(PlanNode plan, Catalog catalog) {
    if (plan.appendOnly() || plan instanceof TimeNode.Settle) {
      return true;
    }
    if (plan instanceof PlanNode.Transform t) {
      return grows(t.input(), catalog);
    }
    return plan instanceof PlanNode.Source source
        && catalog.find(source.relationId()) instanceof CatalogObject.MaterializedView view
        && grows(view.plan(), catalog);
  }

  private static void check(
      Statement.CreateSink s, PlanNode plan, boolean grows, Rows rows, int[] key, int[] proven) {
    SqlNode said = s.options().get("rows");
    if (rows == Rows.APPEND && !grows) {
      throw SqlErrors.invalid(
          said == null ? s.query() : said,
          "the query revises rows that it has given, so they cannot only be appended",
          "give a KEY and rows 'upsert', or rows 'changes'; or keep windows with rows 'settled' as"
              + " a view and deliver that");
    }
    if (rows != Rows.UPSERT) {
      return;
    }
    if (key == null) {
      throw SqlErrors.invalid(
          said == null ? s.query() : said,
          "nothing tells the rows apart, so one cannot be put in the place of another",
          "GROUP BY what does, or carry rows 'changes'");
    }
    int[] sorted = Arrays.stream(key).sorted().toArray();
    boolean unique =
        proven != null && Arrays.stream(proven).allMatch(c -> Arrays.binarySearch(sorted, c) >= 0);
    if (!unique) {
      throw SqlErrors.invalid(
          s.key() == null ? s.query() : s.key().get(0),
          "nothing proves that only one row has this key",
          proven == null
              ? "GROUP BY the key's columns, or choose one row of each key by DISTINCT ON"
              : "the rows are told apart by " + names(proven, plan));
    }
  }

  private static String names(int[] columns, PlanNode plan) {
    List<String> names =
        Arrays.stream(columns).mapToObj(c -> plan.schema().column(c).name()).toList();
    return String.join(", ", names);
  }

  private static boolean snapshot(SqlNode option, boolean otherwise) {
    if (option == null) {
      return otherwise;
    }
    String text = text(option);
    if (!text.equals("now") && !text.equals("with snapshot")) {
      throw SqlErrors.invalid(
          option, "start is 'now' or 'with snapshot', not '" + text + "'", null);
    }
    return !text.equals("now");
  }

  private static Upkeep upkeep(SqlNode option) {
    try {
      return option == null ? Upkeep.CONTINUOUS : Upkeep.of(text(option), 0);
    } catch (IllegalArgumentException e) {
      throw SqlErrors.invalid(option, e.getMessage(), Upkeep.HINT);
    }
  }

  private static String text(SqlNode value) {
    return ((SqlLiteral) value).toValue().strip().toLowerCase(Locale.ROOT);
  }
}
