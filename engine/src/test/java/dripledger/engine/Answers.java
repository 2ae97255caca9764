package dripledger.engine;

import dripledger.engine.query.Result;
import java.math.BigDecimal;
import java.math.MathContext;
import java.math.RoundingMode;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.Collections;
import java.util.List;

/** Answers of the engine and of PostgreSQL as text that is equal if they are. */
final class Answers {
  private Answers() {}

  static List<String> ours(TestEngine db, String sql) {
    List<String> rows = new ArrayList<>();
    for (Object[] row : ((Result.Rows) db.run(sql)).rows()) {
      rows.add(text(row));
    }
    Collections.sort(rows);
    return rows;
  }

  static List<String> theirs(Statement oracle, String sql) throws SQLException {
    List<String> rows = new ArrayList<>();
    try (ResultSet result = oracle.executeQuery(sql)) {
      int n = result.getMetaData().getColumnCount();
      while (result.next()) {
        Object[] row = new Object[n];
        for (int i = 0; i < n; i++) {
          row[i] = result.getObject(i + 1);
        }
        rows.add(text(row));
      }
    }
    Collections.sort(rows);
    return rows;
  }

  private static String text(Object[] row) {
    List<String> out = new ArrayList<>();
    for (Object value : row) {
      out.add(text(value));
    }
    return String.join(" | ", out);
  }

  /** One text for equal values: numbers without trailing zeros, floating point to 12 digits. */
  static String text(Object value) {
    if (value instanceof Double d) {
      return d == 0 ? "0" : number(new BigDecimal(d).round(new MathContext(12)));
    }
    if (value instanceof BigDecimal d) {
      return number(d.setScale(Math.min(d.scale(), 9), RoundingMode.HALF_UP));
    }
    if (value instanceof Number n) {
      return number(new BigDecimal(n.toString()));
    }
    if (value instanceof java.sql.Timestamp t) {
      return t.toLocalDateTime().toString();
    }
    if (value instanceof java.sql.Date d) {
      return d.toLocalDate().toString();
    }
    return String.valueOf(value);
  }

  private static String number(BigDecimal value) {
    return value.signum() == 0 ? "0" : value.stripTrailingZeros().toPlainString();
  }
}
