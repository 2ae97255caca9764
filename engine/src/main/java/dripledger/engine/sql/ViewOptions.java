package dripledger.engine.sql;

import dripledger.engine.catalog.Retention;
import dripledger.engine.catalog.Upkeep;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.plan.Publishing;
import dripledger.engine.sql.QueryShape.Kept;
import java.util.Locale;
import java.util.Map;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;

/** The options of a materialized view, and the plan that they make of its query's. Stateless. */
final class ViewOptions {
  private static final String EVERY = "every ";

  private ViewOptions() {}

  /** The plan of a view whose query has this plan. */
  static PlanNode apply(Map<String, SqlNode> options, PlanNode plan, SqlNode query) {
    boolean settled = false;
    long early = 0;
    long keep = Retention.FOREVER;
    for (Map.Entry<String, SqlNode> option : options.entrySet()) {
      SqlNode value = option.getValue();
      switch (option.getKey()) {
        case "rows" -> settled = isSettled(value);
        case "keep" -> keep = keep(value);
        case "upkeep", "fresh_within", "late_rows" -> {} // see below
        case "early" -> early = early(value);
        default ->
            throw SqlErrors.invalid(
                value,
                "no option \"" + option.getKey() + "\" of a materialized view",
                "there are rows, early, keep, late_rows, upkeep and fresh_within");
      }
    }
    if (early > 0 && !settled) {
      throw SqlErrors.invalid(
          options.get("early"),
          "early is for rows 'settled'",
          "rows are shown as they stand anyway");
    }
    if (settled) {
      long stay = keep == Retention.FOREVER ? -1 : keep;
      PlanNode settling =
          early > 0 ? Publishing.early(plan, stay, early) : Publishing.settled(plan, stay);
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

  /** When the rows of such a view are put out. */
  static Kept kept(Map<String, SqlNode> options) {
    SqlNode rows = options.get("rows");
    boolean settled = rows != null && isSettled(rows) && !options.containsKey("early");
    return settled ? Kept.SETTLED : Kept.PROVISIONAL;
  }

  /** When such a view takes in what its inputs change. */
  static Upkeep upkeep(Map<String, SqlNode> options) {
    SqlNode fresh = options.get("fresh_within");
    long freshMicros = fresh == null ? 0 : Retention.span(text(fresh));
    if (fresh != null && freshMicros == 0) {
      throw SqlErrors.invalid(
          fresh, "fresh_within '" + text(fresh) + "' is not a time", "write '30 seconds'");
    }
    SqlNode upkeep = options.get("upkeep");
    try {
      return Upkeep.of(upkeep == null ? Upkeep.CONTINUOUS.text() : text(upkeep), freshMicros);
    } catch (IllegalArgumentException e) {
      throw SqlErrors.invalid(upkeep, e.getMessage(), Upkeep.HINT);
    }
  }

  /** Whether such a view keeps rows that come too late, and does not only count them. */
  static boolean keepsLate(Map<String, SqlNode> options) {
    SqlNode value = options.get("late_rows");
    String text = value == null ? "count" : text(value).strip().toLowerCase(Locale.ROOT);
    if (!text.equals("count") && !text.equals("keep")) {
      throw SqlErrors.invalid(value, "late_rows are 'count' or 'keep', not '" + text + "'", null);
    }
    return text.equals("keep");
  }

  private static long early(SqlNode value) {
    String text = text(value).strip().toLowerCase(Locale.ROOT);
    long micros = text.startsWith(EVERY) ? Retention.span(text.substring(EVERY.length())) : 0;
    if (micros == 0) {
      throw SqlErrors.invalid(
          value, "early '" + text(value) + "' is not known", "write 'every 10 seconds'");
    }
    return micros;
  }

  private static String text(SqlNode value) {
    return ((SqlLiteral) value).toValue();
  }

  private static boolean isSettled(SqlNode value) {
    String text = text(value).toLowerCase(Locale.ROOT);
    if (!text.equals("settled") && !text.equals("provisional")) {
      throw SqlErrors.invalid(
          value, "rows are 'provisional' or 'settled', not '" + text + "'", null);
    }
    return text.equals("settled");
  }

  private static long keep(SqlNode value) {
    try {
      return Retention.micros(text(value));
    } catch (IllegalArgumentException e) {
      throw SqlErrors.invalid(
          value, e.getMessage().replaceFirst("^retain", "keep"), Retention.HINT);
    }
  }
}
