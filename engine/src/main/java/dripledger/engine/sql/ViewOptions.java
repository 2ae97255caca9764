package dripledger.engine.sql;

import dripledger.engine.catalog.Retention;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.Publishing;
import java.util.Locale;
import java.util.Map;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;

/** The options of a materialized view, and the plan that they make of its query's. Stateless. */
final class ViewOptions {
  private ViewOptions() {}

  /** The plan of a view whose query has this plan. */
  static PlanNode apply(Map<String, SqlNode> options, PlanNode plan, SqlNode query) {
    boolean settled = false;
    long keep = Retention.FOREVER;
    for (Map.Entry<String, SqlNode> option : options.entrySet()) {
      SqlNode value = option.getValue();
      switch (option.getKey()) {
        case "rows" -> settled = isSettled(value);
        case "keep" -> keep = keep(value);
        case "upkeep", "early", "fresh_within", "late_rows" ->
            throw SyntaxRewriter.unsupported(
                "view option " + option.getKey(), value.getParserPosition(), null);
        default ->
            throw SqlErrors.invalid(
                value,
                "no option \"" + option.getKey() + "\" of a materialized view",
                "there are rows and keep");
      }
    }
    if (settled) {
      PlanNode settling = Publishing.settled(plan, keep == Retention.FOREVER ? -1 : keep);
      if (settling == null) {
        throw SqlErrors.invalid(
            query,
            "no column says when a row can no longer change",
            "group by window_end of TUMBLE or HOP over a stream with an EVENT TIME");
      }
      return settling;
    }
    if (keep != Retention.FOREVER) {
      PlanNode kept = Publishing.keptFor(plan, keep);
      if (kept == null) {
        throw SqlErrors.invalid(
            options.get("keep"),
            "keep is for rows that are grouped by a time, or matches that say one of theirs",
            "group by window_end of TUMBLE or HOP over a stream with an EVENT TIME");
      }
      return kept;
    }
    return plan;
  }

  private static boolean isSettled(SqlNode value) {
    String text = ((SqlLiteral) value).toValue().toLowerCase(Locale.ROOT);
    if (!text.equals("settled") && !text.equals("provisional")) {
      throw SqlErrors.invalid(
          value, "rows are 'provisional' or 'settled', not '" + text + "'", null);
    }
    return text.equals("settled");
  }

  private static long keep(SqlNode value) {
    try {
      return Retention.micros(((SqlLiteral) value).toValue());
    } catch (IllegalArgumentException e) {
      throw SqlErrors.invalid(
          value, e.getMessage().replaceFirst("^retain", "keep"), Retention.HINT);
    }
  }
}
