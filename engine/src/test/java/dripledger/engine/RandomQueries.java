package dripledger.engine;

import java.util.ArrayList;
import java.util.List;
import java.util.Random;
import java.util.stream.Collectors;
import java.util.stream.IntStream;

/**
 * Makes queries by chance: joins, groupings, window functions, set operations, queries in
 * expressions, first rows, each in each, over four tables of the same columns. What could fail, or
 * has no one answer, is not made.
 */
final class RandomQueries {
  static final int TABLES = 4;
  static final String COLUMNS = "k INTEGER PRIMARY KEY, a INTEGER, b INTEGER, s VARCHAR, t VARCHAR";
  private static final int DEEPEST = 3;

  private final Random random;
  private int names;

  private enum Type {
    NUMBER,
    TEXT
  }

  private record Column(String name, Type type) {}

  /** Something to read from, and what it has. */
  private record Relation(String sql, List<Column> columns) {}

  RandomQueries(Random random) {
    this.random = random;
  }

  /** A query whose columns are called c0, c1, …. */
  String next() {
    names = 0;
    List<Type> types =
        IntStream.range(0, 1 + random.nextInt(4))
            .mapToObj(i -> chance(3) ? Type.TEXT : Type.NUMBER)
            .toList();
    if (chance(8)) {
      String name = name("w");
      List<Type> inner = List.of(Type.NUMBER, Type.TEXT, Type.NUMBER);
      List<Column> columns = columns(inner);
      Relation one = new Relation(name + " AS x1", prefixed("x1", columns));
      Relation two = new Relation(name + " AS x2", prefixed("x2", columns));
      Relation both = join(one, two);
      return "WITH " + name + " AS (" + query(inner, 1) + ") " + simple(types, both, 1);
    }
    return query(types, 0);
  }

  private boolean chance(int of) {
    return random.nextInt(of) == 0;
  }

  @SafeVarargs
  private <T> T oneOf(T... all) {
    return all[random.nextInt(all.length)];
  }

  private <T> T oneOf(List<T> all) {
    return all.get(random.nextInt(all.size()));
  }

  private String name(String prefix) {
    return prefix + names++;
  }

  private static List<Column> columns(List<Type> types) {
    return IntStream.range(0, types.size())
        .mapToObj(i -> new Column("c" + i, types.get(i)))
        .toList();
  }

  private static List<Column> prefixed(String alias, List<Column> columns) {
    return columns.stream().map(c -> new Column(alias + "." + c.name, c.type)).toList();
  }

  private String query(List<Type> types, int depth) {
    if (depth < DEEPEST) {
      switch (random.nextInt(14)) {
        case 0, 1 -> {
          String kind =
              oneOf("UNION", "UNION ALL", "INTERSECT", "EXCEPT", "INTERSECT ALL", "EXCEPT ALL");
          return "(" + query(types, depth + 1) + ") " + kind + " (" + query(types, depth + 1) + ")";
        }
        case 2 -> {
          String all =
              IntStream.range(0, types.size())
                  .mapToObj(i -> "c" + i + oneOf("", " DESC", " NULLS FIRST", " DESC NULLS LAST"))
                  .collect(Collectors.joining(", "));
          String offset = chance(3) ? " OFFSET " + random.nextInt(3) : "";
          String alias = name("l");
          return "SELECT * FROM ("
              + query(types, depth + 1)
              + ") AS "
              + alias
              + " ORDER BY "
              + all
              + offset
              + " LIMIT "
              + random.nextInt(7);
        }
        case 3, 4, 5, 6 -> {
          return grouped(types, from(depth + 1), depth);
        }
        case 7, 8 -> {
          return windowed(types, depth);
        }
        default -> {}
      }
    }
    return simple(types, from(depth + 1), depth);
  }

  // ---- FROM

  private Relation from(int depth) {
    if (depth >= DEEPEST || chance(3)) {
      return table();
    }
    if (chance(4)) {
      List<Type> types = List.of(Type.NUMBER, Type.TEXT, oneOf(Type.values()));
      String alias = name("q");
      return new Relation(
          "(" + query(types, depth + 1) + ") AS " + alias, prefixed(alias, columns(types)));
    }
    if (chance(7)) {
      return lateral(from(depth + 1));
    }
    Relation left = from(depth + 1);
    Relation right = from(depth + 1);
    // A query that reads what is beside it is not planned in parentheses.
    boolean beside = right.sql.contains("JOIN LATERAL") || right.sql.contains("JOIN UNNEST");
    return join(left, beside ? table() : right);
  }

  /** Rows with what a query that reads them answers beside each, or with elements made of them. */
  private Relation lateral(Relation left) {
    String alias = name("e");
    List<Column> both = new ArrayList<>(left.columns);
    both.add(new Column(alias + ".x", Type.NUMBER));
    if (chance(4)) {
      String made = column(left.columns, Type.NUMBER) + ", " + value(left.columns, Type.NUMBER, 1);
      String kind = oneOf(" CROSS JOIN UNNEST(ARRAY[", " LEFT JOIN UNNEST(ARRAY[");
      String on = kind.startsWith(" LEFT") ? " ON TRUE" : "";
      return new Relation(left.sql + kind + made + "]) AS " + alias + " (x)" + on, both);
    }
    Relation inner = table();
    both.add(new Column(alias + ".y", Type.TEXT));
    String outer = column(left.columns, Type.NUMBER);
    String own = column(inner.columns, Type.NUMBER);
    String where = " FROM " + inner.sql + " WHERE " + own + oneOf(" = ", " = ", " < ") + outer;
    String query =
        chance(3)
            ? "SELECT COUNT(*) AS x, MAX(" + column(inner.columns, Type.TEXT) + ") AS y" + where
            : named(inner) + where;
    String kind = oneOf(" CROSS JOIN LATERAL (", " LEFT JOIN LATERAL (");
    String on = kind.startsWith(" LEFT") ? " ON TRUE" : "";
    return new Relation(left.sql + kind + query + ") AS " + alias + on, both);
  }

  private String named(Relation inner) {
    return "SELECT "
        + value(inner.columns, Type.NUMBER, 1)
        + " AS x, "
        + value(inner.columns, Type.TEXT, 1)
        + " AS y";
  }

  private Relation table() {
    String alias = name("t");
    return new Relation(
        "r" + random.nextInt(TABLES) + " AS " + alias,
        prefixed(
            alias,
            List.of(
                new Column("k", Type.NUMBER),
                new Column("a", Type.NUMBER),
                new Column("b", Type.NUMBER),
                new Column("s", Type.TEXT),
                new Column("t", Type.TEXT))));
  }

  private Relation join(Relation left, Relation right) {
    List<Column> both = new ArrayList<>(left.columns);
    both.addAll(right.columns);
    String kind = oneOf("JOIN", "JOIN", "LEFT JOIN", "RIGHT JOIN", "FULL JOIN");
    Type type = chance(4) ? Type.TEXT : Type.NUMBER;
    String equal = column(left.columns, type) + " = " + column(right.columns, type);
    if (kind.equals("FULL JOIN") || chance(2)) {
      return new Relation(left.sql + " " + kind + " " + nested(right) + " ON " + equal, both);
    }
    String more = condition(both, 2, DEEPEST);
    String on = chance(6) ? more : equal + " AND " + more;
    return new Relation(left.sql + " " + kind + " " + nested(right) + " ON " + on, both);
  }

  private static String nested(Relation right) {
    return right.sql.contains(" JOIN ") && !right.sql.startsWith("(")
        ? "(" + right.sql + ")"
        : right.sql;
  }

  // ---- kinds of SELECT

  private String where(Relation from, int depth) {
    return chance(2) ? " WHERE " + condition(from.columns, 2, depth) : "";
  }

  private static String named(List<String> expressions) {
    return IntStream.range(0, expressions.size())
        .mapToObj(i -> expressions.get(i) + " AS c" + i)
        .collect(Collectors.joining(", "));
  }

  private String simple(List<Type> types, Relation from, int depth) {
    List<String> outputs = types.stream().map(t -> value(from.columns, t, 2)).toList();
    String distinct = chance(6) ? "DISTINCT " : "";
    return "SELECT " + distinct + named(outputs) + " FROM " + from.sql + where(from, depth);
  }

  private String grouped(List<Type> types, Relation from, int depth) {
    int keys = random.nextInt(Math.min(3, types.size() + 1));
    List<String> groups = new ArrayList<>();
    List<String> outputs = new ArrayList<>();
    for (int i = 0; i < types.size(); i++) {
      boolean key = i < keys;
      String column = key ? column(from.columns, types.get(i)) : null;
      if (key) {
        groups.add(column);
      }
      outputs.add(key ? column : aggregate(from.columns, types.get(i)));
    }
    String having = chance(3) ? " HAVING " + aggregate(from.columns, Type.NUMBER) + " > 1" : "";
    List<String> distinct = groups.stream().distinct().toList();
    String by = "";
    if (!distinct.isEmpty()) {
      String all = String.join(", ", distinct);
      by = " GROUP BY " + (chance(6) ? oneOf("ROLLUP", "CUBE") + " (" + all + ")" : all);
    }
    return "SELECT " + named(outputs) + " FROM " + from.sql + where(from, depth) + by + having;
  }

  private String aggregate(List<Column> columns, Type type) {
    String filter = chance(5) ? " FILTER (WHERE " + condition(columns, 1, DEEPEST) + ")" : "";
    if (type == Type.TEXT) {
      String text = value(columns, Type.TEXT, 1);
      return oneOf(
          "MIN(" + text + ")" + filter,
          "MAX(" + text + ")" + filter,
          "STRING_AGG(" + text + ", ',' ORDER BY " + text + ")" + filter);
    }
    String number = value(columns, Type.NUMBER, 1);
    return oneOf(
            "COUNT(*)",
            "COUNT(" + number + ")",
            "SUM(" + number + ")",
            "MIN(" + number + ")",
            "MAX(" + number + ")",
            "COUNT(DISTINCT " + number + ")",
            "SUM(DISTINCT " + number + ")",
            "AVG(" + number + ")",
            "COUNT(" + value(columns, Type.TEXT, 1) + ")")
        + filter;
  }

  private String windowed(List<Type> types, int depth) {
    Relation from = table();
    Relation more = chance(2) ? join(from, table()) : from;
    List<String> keys =
        more.columns.stream().map(Column::name).filter(n -> n.endsWith(".k")).toList();
    List<String> outputs = new ArrayList<>();
    for (Type type : types) {
      outputs.add(chance(3) ? value(more.columns, type, 1) : over(more.columns, keys, type));
    }
    if (chance(3)) {
      String alias = name("n");
      String place =
          oneOf("ROW_NUMBER()", "RANK()", "DENSE_RANK()")
              + " OVER ("
              + window(more.columns, keys)
              + ")";
      String inner = "SELECT " + named(outputs) + ", " + place + " AS place FROM " + more.sql;
      List<String> columns = IntStream.range(0, types.size()).mapToObj(i -> "c" + i).toList();
      return "SELECT "
          + String.join(", ", columns)
          + " FROM ("
          + inner
          + ") AS "
          + alias
          + " WHERE place "
          + oneOf("= 1", "<= 2", "< 4", "BETWEEN 2 AND 3");
    }
    return "SELECT " + named(outputs) + " FROM " + more.sql + where(more, depth);
  }

  private String over(List<Column> columns, List<String> keys, Type type) {
    String window = " OVER (" + window(columns, keys) + frame() + ")";
    String plain = " OVER (" + window(columns, keys) + ")";
    String value = column(columns, type);
    if (type == Type.TEXT) {
      return oneOf(
          "MIN(" + value + ")" + window,
          "MAX(" + value + ")" + window,
          "FIRST_VALUE(" + value + ")" + window,
          "LAST_VALUE(" + value + ")" + window,
          "LAG(" + value + ")" + plain,
          "LEAD(" + value + ", 2)" + plain);
    }
    return oneOf(
        "ROW_NUMBER()" + plain,
        "RANK() OVER (ORDER BY " + value + ")",
        "DENSE_RANK() OVER (PARTITION BY "
            + column(columns, Type.TEXT)
            + " ORDER BY "
            + value
            + ")",
        "COUNT(*)" + window,
        "SUM(" + value + ")" + window,
        "MIN(" + value + ")" + window,
        "MAX(" + value + ")" + window,
        "SUM(" + value + ") OVER (PARTITION BY " + column(columns, Type.TEXT) + ")",
        "SUM(" + value + ") OVER (ORDER BY " + value + ")",
        "COUNT(*) OVER (ORDER BY " + value + " RANGE BETWEEN 1 PRECEDING AND 2 FOLLOWING)",
        "SUM("
            + value
            + ") OVER (ORDER BY "
            + column(columns, Type.TEXT)
            + " GROUPS BETWEEN "
            + oneOf("1 PRECEDING", "CURRENT ROW", "UNBOUNDED PRECEDING")
            + " AND "
            + oneOf("1 FOLLOWING", "2 FOLLOWING", "CURRENT ROW")
            + ")",
        "NTH_VALUE(" + value + ", 2)" + window,
        "LAG(" + value + ", 1)" + plain,
        "NTILE(3)" + plain);
  }

  /** Parted somehow, in an order in which no two rows are equal but for rows that are. */
  private String window(List<Column> columns, List<String> keys) {
    String by = chance(2) ? "PARTITION BY " + column(columns, oneOf(Type.values())) + " " : "";
    String order =
        chance(2) ? column(columns, oneOf(Type.values())) + oneOf("", " DESC") + ", " : "";
    return by + "ORDER BY " + order + String.join(", ", keys);
  }

  private String frame() {
    return oneOf(
        "",
        "",
        " ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING",
        " ROWS 2 PRECEDING",
        " ROWS BETWEEN CURRENT ROW AND UNBOUNDED FOLLOWING",
        " ROWS BETWEEN 3 PRECEDING AND 1 PRECEDING",
        " ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING",
        " ROWS BETWEEN 2 PRECEDING AND 2 FOLLOWING EXCLUDE CURRENT ROW");
  }

  // ---- expressions

  private String column(List<Column> columns, Type type) {
    List<Column> fitting = columns.stream().filter(c -> c.type == type).toList();
    return fitting.isEmpty() ? literal(type) : oneOf(fitting).name;
  }

  private String literal(Type type) {
    return type == Type.NUMBER ? "" + random.nextInt(6) : "'" + oneOf("a", "b", "ab", "") + "'";
  }

  private String value(List<Column> columns, Type type, int deep) {
    if (deep == 0 || chance(2)) {
      return chance(6) ? literal(type) : column(columns, type);
    }
    String one = value(columns, type, deep - 1);
    String two = value(columns, type, deep - 1);
    String any =
        oneOf(
            "CASE WHEN "
                + condition(columns, 1, DEEPEST)
                + " THEN "
                + one
                + " ELSE "
                + two
                + " END",
            "CASE WHEN " + condition(columns, 1, DEEPEST) + " THEN " + one + " END",
            "COALESCE(" + one + ", " + two + ")",
            "NULLIF(" + one + ", " + two + ")",
            "GREATEST(" + one + ", " + two + ")");
    if (chance(2)) {
      return any;
    }
    return type == Type.NUMBER
        ? oneOf(
            "(" + one + " + " + two + ")",
            "(" + one + " - " + two + ")",
            "ABS(" + one + ")",
            "MOD(" + one + ", 3)",
            "CHAR_LENGTH(" + value(columns, Type.TEXT, deep - 1) + ")")
        : oneOf(
            "UPPER(" + one + ")", "(" + one + " || " + two + ")", "SUBSTRING(" + one + ", 1, 1)");
  }

  private String condition(List<Column> columns, int deep, int depth) {
    if (depth < DEEPEST && chance(4)) {
      return ofQuery(columns);
    }
    Type type = chance(3) ? Type.TEXT : Type.NUMBER;
    String one = value(columns, type, deep - 1);
    String two = value(columns, type, deep - 1);
    if (deep > 1 && chance(3)) {
      String left = condition(columns, deep - 1, depth);
      String right = condition(columns, deep - 1, depth);
      return oneOf(
          "(" + left + " AND " + right + ")",
          "(" + left + " OR " + right + ")",
          "NOT (" + left + ")");
    }
    return switch (random.nextInt(8)) {
      case 0 -> one + " IS NULL";
      case 1 -> one + " IS NOT NULL";
      case 2 -> one + " IS DISTINCT FROM " + two;
      case 3 -> one + " BETWEEN " + two + " AND " + literal(type);
      case 4 -> one + " IN (" + literal(type) + ", " + literal(type) + ")";
      default -> one + oneOf(" = ", " < ", " >= ", " <> ") + two;
    };
  }

  private String ofQuery(List<Column> columns) {
    Relation inner = table();
    Type type = chance(3) ? Type.TEXT : Type.NUMBER;
    String own = column(columns, type);
    String theirs = column(inner.columns, type);
    String where = chance(2) ? " WHERE " + condition(inner.columns, 1, DEEPEST) : "";
    return oneOf(
        own + " IN (SELECT " + theirs + " FROM " + inner.sql + where + ")",
        own + " NOT IN (SELECT " + theirs + " FROM " + inner.sql + where + ")",
        "EXISTS (SELECT 1 FROM " + inner.sql + " WHERE " + theirs + " = " + own + ")",
        "NOT EXISTS (SELECT 1 FROM " + inner.sql + " WHERE " + theirs + " = " + own + ")",
        own + " > (SELECT MIN(" + theirs + ") FROM " + inner.sql + where + ")",
        own + " >= ALL (SELECT " + theirs + " FROM " + inner.sql + where + ")",
        own
            + " = (SELECT MAX("
            + theirs
            + ") FROM "
            + inner.sql
            + " WHERE "
            + theirs
            + " <= "
            + own
            + ")");
  }

  // ---- changes

  /** The statements of one epoch. */
  List<String> changes() {
    List<String> statements = new ArrayList<>();
    for (int i = 0; i <= random.nextInt(4); i++) {
      String table = "r" + random.nextInt(TABLES);
      int k = random.nextInt(12);
      switch (random.nextInt(8)) {
        case 0 ->
            statements.add("UPDATE " + table + " SET a = " + number() + " WHERE b = " + k % 5);
        case 1 -> statements.add("UPDATE " + table + " SET s = t WHERE MOD(k, 3) = " + k % 3);
        case 2 -> statements.add("DELETE FROM " + table + (chance(6) ? "" : " WHERE a = " + k % 5));
        case 3 -> statements.add("DELETE FROM " + table + " WHERE k = " + k);
        default -> {
          statements.add("DELETE FROM " + table + " WHERE k = " + k);
          statements.add(
              "INSERT INTO "
                  + table
                  + " VALUES ("
                  + String.join(", ", "" + k, number(), number(), text(), text())
                  + ")");
        }
      }
    }
    return statements;
  }

  private String number() {
    return chance(4) ? "NULL" : "" + random.nextInt(5);
  }

  private String text() {
    return chance(4) ? "NULL" : "'" + oneOf("a", "b", "ab", "B", "") + "'";
  }
}
