package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.query.Result;
import java.sql.Connection;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.Collections;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import java.util.stream.Collectors;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/**
 * Random questions to a table and to views of it, with conditions on keys, indexes and other
 * columns, values written out or given as parameters, orders, limits and counts: whichever way they
 * are read, the answer is PostgreSQL's, in its order.
 */
class RandomReadsTest extends BesidePostgres {
  private static final int QUESTIONS = 250;

  private static final String TABLE =
      "CREATE TABLE place (area VARCHAR NOT NULL, n INTEGER NOT NULL, name VARCHAR, at TIMESTAMP, w BIGINT,"
          + " d DECIMAL(6, 2), PRIMARY KEY (area, n))";

  private static final Map<String, String> VIEWS =
      Map.of(
          "per_area",
          "SELECT area, MOD(n, 4) AS m, COUNT(*) AS c, SUM(w) AS s FROM place GROUP BY area, MOD(n, 4)",
          "picked",
          "SELECT area, n, name, w FROM place WHERE w > 3",
          "named",
          "SELECT name, MAX(n) AS most, COUNT(*) * 2 AS twice FROM place GROUP BY name HAVING COUNT(*) > 1",
          "joined",
          "SELECT p.area, p.n, o.n AS other, o.name FROM place AS p JOIN place AS o ON o.area = p.area AND"
              + " o.n = p.n + 1");

  private static final Map<String, List<String>> COLUMNS =
      Map.of(
          "place",
          List.of("area:t", "n:n", "name:t", "at:m", "w:n", "d:n"),
          "per_area",
          List.of("area:t", "m:n", "c:n", "s:n"),
          "picked",
          List.of("area:t", "n:n", "name:t", "w:n"),
          "named",
          List.of("name:t", "most:n", "twice:n"),
          "joined",
          List.of("area:t", "n:n", "other:n", "name:t"));

  private static final List<String> TEXTS =
      List.of(
          "a", "ab", "abc", "b", "B", "a%", "", "\u00e4", "a long name that is not kept inline");

  private final Random random = new Random();
  private final Map<String, Object> arguments = new HashMap<>();

  @ParameterizedTest
  @ValueSource(longs = {1, 2, 3})
  void answersAreThoseOfPostgres(long seed) throws Exception {
    random.setSeed(seed);
    try (TestEngine db = new TestEngine();
        Connection connection = database("reads" + seed);
        Statement oracle = connection.createStatement()) {
      db.run(TABLE);
      oracle.execute(TABLE);
      VIEWS.forEach((name, sql) -> db.run("CREATE MATERIALIZED VIEW " + name + " AS " + sql));
      for (Map.Entry<String, String> view : VIEWS.entrySet()) {
        oracle.execute("CREATE VIEW " + view.getKey() + " AS " + view.getValue());
      }
      db.run("CREATE INDEX ON place (name); CREATE INDEX ON place (w, area)");
      db.run("CREATE INDEX ON per_area (c); CREATE INDEX ON picked (name, n)");
      for (int question = 0; question < QUESTIONS; question++) {
        if (question % 25 == 0) {
          change(db, oracle);
        }
        if (question == QUESTIONS / 2) {
          db.checkpoint();
          db.crash();
        }
        ask(db, oracle, "seed " + seed + ", question " + question);
      }
    }
  }

  private void change(TestEngine db, Statement oracle) throws SQLException {
    for (int i = 0; i < 25; i++) {
      String key = "area = " + text() + " AND n = " + number();
      String statement =
          switch (random.nextInt(4)) {
            case 0 -> "DELETE FROM place WHERE " + key;
            case 1 -> "UPDATE place SET name = " + orNull(text()) + ", w = w + 1 WHERE " + key;
            default ->
                "INSERT INTO place SELECT a, k, %s, %s, %s, %s FROM (VALUES (%s, %s)) AS v (a, k) WHERE NOT EXISTS (SELECT 1 FROM place WHERE area = a AND n = k)"
                    .formatted(
                        "CAST(" + orNull(text()) + " AS VARCHAR)",
                        "CAST(" + orNull(moment()) + " AS TIMESTAMP)",
                        "CAST(" + orNull("" + number()) + " AS BIGINT)",
                        "CAST(" + orNull(number() + ".25") + " AS DECIMAL(6, 2))",
                        text(),
                        number());
          };
      db.run(statement);
      oracle.execute(statement);
    }
  }

  private String orNull(String value) {
    return random.nextInt(5) == 0 ? "NULL" : value;
  }

  private String text() {
    return "'" + TEXTS.get(random.nextInt(TEXTS.size())) + "'";
  }

  private int number() {
    return random.nextInt(14) - 3;
  }

  private String moment() {
    return "TIMESTAMP '2026-03-02 06:0" + random.nextInt(6) + ":00'";
  }

  /** One question, more than once: what is asked often is planned for all values of parameters. */
  private void ask(TestEngine db, Statement oracle, String which) throws SQLException {
    List<String> relations = List.of("place", "place", "per_area", "picked", "named", "joined");
    String relation = relations.get(random.nextInt(relations.size()));
    List<String> columns = COLUMNS.get(relation);
    List<String> names = columns.stream().map(c -> c.split(":")[0]).toList();
    List<String> conditions = new ArrayList<>();
    arguments.clear();
    for (int i = random.nextInt(4); i > 0; i--) {
      conditions.add(condition(columns));
    }
    String where = conditions.isEmpty() ? "" : " WHERE " + String.join(" AND ", conditions);
    String from = " FROM " + relation + where;
    String query;
    boolean ordered = false;
    switch (random.nextInt(5)) {
      case 0 -> query = "SELECT COUNT(*) AS c" + from;
      case 1 -> {
        String group = names.get(random.nextInt(names.size()));
        query = "SELECT " + group + ", COUNT(*) AS c" + from + " GROUP BY " + group;
      }
      default -> {
        ordered = random.nextInt(3) > 0;
        query = "SELECT " + String.join(", ", names) + from + (ordered ? order(names) : "");
      }
    }
    String plain = query;
    for (Map.Entry<String, Object> argument : arguments.entrySet()) {
      Object value = argument.getValue();
      plain =
          plain.replace(
              ":" + argument.getKey() + "_",
              value instanceof String s ? "'" + s + "'" : "" + value);
    }
    List<String> theirs = rows(oracle, plain);
    String asked = query;
    for (String name : arguments.keySet()) {
      asked = asked.replace(":" + name + "_", ":" + name);
    }
    for (int i = 0; i < 1 + random.nextInt(4); i++) {
      List<String> ours = rows((Result.Rows) db.run(asked, arguments));
      if (!ordered) {
        Collections.sort(ours);
      }
      assertThat(ours)
          .as("%s: %s with %s", which, asked, arguments)
          .isEqualTo(sorted(theirs, !ordered));
    }
  }

  private static List<String> sorted(List<String> rows, boolean sort) {
    List<String> all = new ArrayList<>(rows);
    if (sort) {
      Collections.sort(all);
    }
    return all;
  }

  /** An order that tells all rows apart, whatever columns it begins with. */
  private String order(List<String> names) {
    List<String> order = new ArrayList<>(names);
    if (random.nextBoolean()) {
      Collections.shuffle(order, random);
    }
    boolean down = random.nextInt(3) == 0;
    String items =
        order.stream()
            .map(n -> n + (down || random.nextInt(6) == 0 ? " DESC" : ""))
            .map(n -> n + (random.nextInt(8) == 0 ? " NULLS FIRST" : ""))
            .collect(Collectors.joining(", "));
    String limit = random.nextBoolean() ? " LIMIT " + random.nextInt(6) : "";
    String offset = random.nextInt(4) == 0 ? " OFFSET " + random.nextInt(4) : "";
    return " ORDER BY " + items + limit + offset;
  }

  private String condition(List<String> columns) {
    String[] column = columns.get(random.nextInt(columns.size())).split(":");
    String name = column[0];
    String kind = column[1];
    switch (random.nextInt(10)) {
      case 0:
        return name + (random.nextBoolean() ? " IS NULL" : " IS NOT NULL");
      case 1:
        return name + " IN (" + value(kind) + ", " + value(kind) + ", " + value(kind) + ")";
      case 2:
        return name + " BETWEEN " + value(kind) + " AND " + value(kind);
      case 3:
        return "(" + name + " = " + value(kind) + " OR " + name + " > " + value(kind) + ")";
      case 4:
        if (kind.equals("t")) {
          List<String> patterns = List.of("a%", "ab_", "%b%", "", "b", "a\\\\%");
          return name + " LIKE '" + patterns.get(random.nextInt(5)) + "'";
        }
        return "NOT " + name + " = " + value(kind);
      case 5:
        String[] other = columns.get(random.nextInt(columns.size())).split(":");
        return "(%s, %s) %s (%s, %s)"
            .formatted(name, other[0], comparison(), value(kind), value(other[1]));
      default:
        return name + " " + (random.nextInt(3) > 0 ? "=" : comparison()) + " " + value(kind);
    }
  }

  private String comparison() {
    return List.of("<", "<=", ">", ">=").get(random.nextInt(4));
  }

  /** A value as it is written, or a parameter: {@code :p0_} here, which is easily told apart. */
  private String value(String kind) {
    if (kind.equals("m")) {
      return moment();
    }
    Object value =
        kind.equals("t") ? TEXTS.get(random.nextInt(TEXTS.size())) : (Object) (long) number();
    if (random.nextInt(3) == 0) {
      String name = "p" + arguments.size();
      arguments.put(name, value);
      return ":" + name + "_";
    }
    return value instanceof String s ? "'" + s + "'" : "" + value;
  }

  private static List<String> rows(Result.Rows result) {
    List<String> rows = new ArrayList<>();
    for (Object[] row : result.rows()) {
      rows.add(Arrays.stream(row).map(Answers::text).collect(Collectors.joining(" | ")));
    }
    return rows;
  }

  private static List<String> rows(Statement oracle, String sql) throws SQLException {
    List<String> rows = new ArrayList<>();
    try (var result = oracle.executeQuery(sql)) {
      int columns = result.getMetaData().getColumnCount();
      while (result.next()) {
        List<String> row = new ArrayList<>();
        for (int i = 1; i <= columns; i++) {
          row.add(Answers.text(result.getObject(i)));
        }
        rows.add(String.join(" | ", row));
      }
    }
    return rows;
  }
}
