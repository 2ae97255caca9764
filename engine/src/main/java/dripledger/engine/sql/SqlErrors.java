package dripledger.engine.sql;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.util.ArrayList;
import java.util.Collection;
import java.util.List;
import java.util.Locale;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import java.util.stream.Collectors;
import org.apache.calcite.runtime.CalciteContextException;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.parser.SqlParseException;
import org.apache.calcite.sql.parser.SqlParserPos;

/** Turns the SQL library's complaints into sentences for users, with place and hint. Stateless. */
final class SqlErrors {
  private static final Pattern ENCOUNTERED = Pattern.compile("Encountered \"(.*?)\" at line");
  private static final Pattern LEXICAL =
      Pattern.compile("Lexical error at line (\\d+), column (\\d+)\\.\\s*Encountered: (.*)");
  private static final List<String> STATEMENT_WORDS =
      List.of(
          "SELECT",
          "INSERT",
          "UPDATE",
          "DELETE",
          "CREATE",
          "DROP",
          "FOLLOW",
          "EXPLAIN",
          "DESCRIBE",
          "SHOW",
          "WITH",
          "VALUES",
          "BEGIN",
          "COMMIT",
          "ROLLBACK");

  private SqlErrors() {}

  /** A statement that makes no sense, with the place of the word that does not. */
  static EngineException invalid(SqlNode at, String message, String hint) {
    SqlParserPos pos = at.getParserPosition();
    return new EngineException(Code.INVALID, message, pos.getLineNum(), pos.getColumnNum(), hint);
  }

  static EngineException parse(SqlParseException e, String sql) {
    int line = e.getPos() == null ? 0 : e.getPos().getLineNum();
    int column = e.getPos() == null ? 0 : e.getPos().getColumnNum();
    String message = String.valueOf(e.getMessage());
    Matcher lexical = LEXICAL.matcher(message);
    if (lexical.find()) {
      return new EngineException(
          Code.SYNTAX,
          "unexpected character or unfinished text",
          Integer.parseInt(lexical.group(1)),
          Integer.parseInt(lexical.group(2)),
          "texts are in 'single quotes', names with special characters in \"double quotes\"");
    }
    Matcher m = ENCOUNTERED.matcher(message);
    if (message.startsWith("Non-query expression")) {
      return unexpected(sql, line, column);
    }
    if (!m.find()) {
      return new EngineException(Code.SYNTAX, firstLine(message), line, column, null);
    }
    String token = m.group(1).trim();
    String[] lines = sql.stripTrailing().split("\n", -1);
    boolean operatorAtEnd =
        line == lines.length && from(lines, line, column).matches("[-+*/=<>|,(.]+");
    if (token.endsWith("<EOF>") || operatorAtEnd) {
      return new EngineException(
          Code.SYNTAX,
          "the statement ends too early",
          lines.length,
          lines[lines.length - 1].length() + 1,
          "something is missing here");
    }
    return unexpected(sql, line, column);
  }

  private static EngineException unexpected(String sql, int line, int column) {
    String word = wordAt(sql, line, column);
    char quote = word.charAt(0);
    if ((quote == '\'' || quote == '"') && (word.length() == 1 || !word.endsWith("" + quote))) {
      return new EngineException(
          Code.SYNTAX,
          (quote == '"' ? "a name" : "a text") + " begins here and has no end",
          line,
          column,
          "write " + quote + " behind it; within it " + quote + " is written twice");
    }
    return new EngineException(
        Code.SYNTAX,
        "did not expect \"" + word + "\" here",
        line,
        column,
        hintFor(word, line, column, sql));
  }

  /** The word or sign at a place, as the user wrote it. */
  private static String wordAt(String sql, int line, int column) {
    String rest = from(sql.split("\n", -1), line, column);
    Matcher word = Pattern.compile("^[A-Za-z_0-9]+|^'[^']*'?|^\"[^\"]*\"?|^.").matcher(rest);
    return word.find() ? word.group() : "the end of the line";
  }

  /** A line from a column on; nothing where there is no such place. */
  private static String from(String[] lines, int line, int column) {
    return line >= 1 && line <= lines.length && column >= 1 && column <= lines[line - 1].length()
        ? lines[line - 1].substring(column - 1)
        : "";
  }

  private static String hintFor(String token, int line, int column, String sql) {
    if (isStatementStart(sql, line, column)) {
      if (STATEMENT_WORDS.contains(token.toUpperCase(Locale.ROOT))) {
        return "check what follows it, such as SHOW VIEWS, CREATE STREAM or DROP VIEW";
      }
      String near = nearest(token.toUpperCase(Locale.ROOT), STATEMENT_WORDS);
      return near == null
          ? "a statement starts with SELECT, FOLLOW, CREATE, INSERT, UPDATE, DELETE, DROP, EXPLAIN,"
              + " DESCRIBE or SHOW"
          : "did you mean " + near + "?";
    }
    String first = sql.strip().split("[\\s(;]+", 2)[0].toUpperCase(Locale.ROOT);
    if (!STATEMENT_WORDS.contains(first) && nearest(first, STATEMENT_WORDS) != null) {
      return "the statement starts with \""
          + first.toLowerCase(Locale.ROOT)
          + "\"; did you mean "
          + nearest(first, STATEMENT_WORDS)
          + "?";
    }
    return token.matches("[A-Za-z_\"'0-9].*")
        ? "is a comma, an operator or a quote missing before it? a reserved word used as a name"
            + " needs \"double quotes\""
        : null;
  }

  private static boolean isStatementStart(String sql, int line, int column) {
    String[] lines = sql.split("\n", -1);
    StringBuilder before = new StringBuilder();
    for (int i = 0; i < line - 1 && i < lines.length; i++) {
      before.append(lines[i]).append('\n');
    }
    if (line >= 1 && line <= lines.length) {
      before.append(lines[line - 1], 0, Math.min(column - 1, lines[line - 1].length()));
    }
    String text = before.toString().strip();
    return text.isEmpty() || text.endsWith(";");
  }

  private static final Pattern COLUMN =
      Pattern.compile("Column '([^']*)' not found in (any table|table '([^']*)')");
  private static final Pattern TARGET = Pattern.compile("Unknown target column '([^']*)'");
  private static final Pattern NOT_NULL =
      Pattern.compile("Column '([^']*)' has no default value and does not allow NULLs");
  private static final Pattern OBJECT = Pattern.compile("Object '([^']*)' not found");
  private static final Pattern FUNCTION =
      Pattern.compile("No match found for function signature ([^(]*)\\((.*)\\)");
  private static final Pattern APPLY =
      Pattern.compile("Cannot apply '([^']*)' to arguments of type '(.*?)'\\.");

  /** What is said otherwise, with a hint; {@code $1} is what the pattern has found. */
  private record Said(Pattern pattern, String message, String hint) {
    Said(String pattern, String message, String hint) {
      this(Pattern.compile(pattern), message, hint);
    }
  }

  private static final String CAST_ONE = "cast one of them, for example CAST(x AS INTEGER)";

  private static final List<Said> SAID =
      List.of(
          new Said(
              "Column '([^']*)' is ambiguous",
              "column \"$1\" is ambiguous",
              "write whose it is in front of it: relation.$1"),
          new Said("Target column '([^']*)' is assigned.*", "column \"$1\" is there twice", null),
          new Said("Unknown identifier '([^']*)'", "no type \"$1\"", null),
          new Said(
              "Aggregate expression is illegal in (\\w+) clause",
              "an aggregate cannot be in $1",
              "HAVING asks of groups"),
          new Said(
              "Windowed aggregate expression is illegal in (\\w+) clause",
              "a window function cannot be in $1",
              "QUALIFY asks of window functions"),
          new Said("Ordinal out of range", "there is no column of that number", null),
          new Said(
              "Cannot apply '\\$SCALAR_QUERY'.*",
              "a query in the place of a value has one column",
              "leave out the others"),
          new Said(
              "Values passed to IN operator.*",
              "IN compares as many values as the query has columns, of types that go together",
              CAST_ONE),
          new Said(
              "Values passed to VALUES operator.*",
              "rows of VALUES have as many values each, of types that go together",
              CAST_ONE),
          new Said("Duplicate relation name '([^']*)'.*", "\"$1\" is there twice in FROM", null),
          new Said("Window '([^']*)' not found", "no window \"$1\"", "WINDOW $1 AS (…) names one"));

  /**
   * A complaint of the validator.
   *
   * @param relations those the statement names
   */
  static EngineException validation(
      RuntimeException e, Catalog catalog, List<CatalogObject> relations) {
    Throwable cause = e;
    CalciteContextException context = null;
    while (cause != null) {
      if (cause instanceof EngineException known) {
        return known;
      }
      if (cause instanceof CalciteContextException c) {
        context = c;
      }
      cause = cause.getCause();
    }
    if (e instanceof IndexOutOfBoundsException
        || e instanceof NullPointerException
        || e instanceof ClassCastException
        || context == null
            && (e.getMessage() == null || e.getMessage().startsWith("while converting"))) {
      return notPlanned(e);
    }
    if (context == null) {
      EngineException refusal =
          new EngineException(Code.INVALID, firstLine(String.valueOf(e.getMessage())));
      refusal.initCause(e);
      return refusal;
    }
    int line = context.getPosLine();
    int column = context.getPosColumn();
    String message =
        firstLine(
            context.getCause() == null
                ? String.valueOf(context.getMessage())
                : String.valueOf(context.getCause().getMessage()));
    if (context.getCause() != null && TimeWindowCalls.isOfTime(context.getCause())) {
      message = message.replace("Unknown identifier", "Column") + " not found in any table";
    }
    for (Said said : SAID) {
      Matcher found = said.pattern.matcher(message);
      if (found.lookingAt()) {
        String name = found.groupCount() == 0 ? "" : found.group(1);
        String hint = said.hint == null ? null : said.hint.replace("$1", name);
        return new EngineException(
            Code.INVALID, said.message.replace("$1", name), line, column, hint);
      }
    }
    Matcher m = TARGET.matcher(message);
    if (m.find()) {
      String near = nearest(m.group(1), columnNames(relations));
      return new EngineException(
          Code.NOT_FOUND,
          "no column \"" + m.group(1) + "\"",
          line,
          column,
          near == null ? columnsThere(relations) : "did you mean \"" + near + "\"?");
    }
    m = COLUMN.matcher(message);
    if (m.find()) {
      List<String> others = new ArrayList<>(columnNames(relations));
      others.remove(m.group(1)); // of another relation than the one that was asked
      String near = nearest(m.group(1), others);
      return new EngineException(
          Code.NOT_FOUND,
          "no column \"" + m.group(1) + "\"" + (m.group(3) == null ? " here" : " in " + m.group(3)),
          line,
          column,
          near == null ? columnsThere(relations) : "did you mean \"" + near + "\"?");
    }
    m = NOT_NULL.matcher(message);
    if (m.find()) {
      return new EngineException(
              Code.CONSTRAINT,
              "column \"" + m.group(1) + "\" must not be NULL",
              line,
              column,
              "give it a value")
          .state("23502");
    }
    m = OBJECT.matcher(message);
    if (m.find()) {
      CatalogObject other = catalog.find(m.group(1));
      if (other instanceof CatalogObject.Sink || other instanceof CatalogObject.Connection) {
        return new EngineException(
            Code.INVALID,
            "\"" + other.name() + "\" is " + other.aKind() + " and has no rows to read",
            line,
            column,
            other instanceof CatalogObject.Sink ? "read what it is made from" : null);
      }
      String near = nearest(m.group(1), catalog.all().stream().map(CatalogObject::name).toList());
      return new EngineException(
          Code.NOT_FOUND,
          "no stream, table or view \"" + m.group(1) + "\"",
          line,
          column,
          near == null
              ? "SHOW STREAMS, SHOW TABLES and SHOW VIEWS list what there is"
              : "did you mean \"" + near + "\"?");
    }
    m = FUNCTION.matcher(message);
    if (m.find()) {
      String name = m.group(1).toLowerCase(Locale.ROOT);
      List<String> names =
          Dialect.operators().getOperatorList().stream()
              .map(o -> o.getName().toLowerCase(Locale.ROOT))
              .distinct()
              .toList();
      String near = names.contains(name) ? null : nearest(name, names);
      return new EngineException(
          Code.NOT_FOUND,
          "no function " + name + "(" + types(m.group(2)) + ")",
          line,
          column,
          near == null
              ? "check the number and types of its arguments"
              : "did you mean " + near + "?");
    }
    m = APPLY.matcher(message);
    if (m.find() && m.group(1).equals("UNNEST")) {
      return new EngineException(
          Code.INVALID, "UNNEST takes arrays", line, column, "for example UNNEST(ARRAY[1, 2])");
    }
    m = APPLY.matcher(message);
    if (m.find() && TimeWindowCalls.isName(m.group(1))) {
      return new EngineException(
          Code.INVALID,
          "the time of " + m.group(1) + " is no TIMESTAMP",
          line,
          column,
          "name a TIMESTAMP column: DESCRIPTOR (at)");
    }
    m = APPLY.matcher(message);
    if (m.find()) {
      return new EngineException(
          Code.INVALID,
          "\"" + m.group(1) + "\" does not go with these types: " + types(m.group(2)),
          line,
          column,
          CAST_ONE);
    }
    return new EngineException(Code.INVALID, plain(message), line, column, null);
  }

  /** What the SQL library fails on. */
  static EngineException notPlanned(Throwable cause) {
    EngineException refusal =
        new EngineException(
            Code.NOT_SUPPORTED,
            "not supported yet: this form of query",
            "write it in another way, for example a query in an expression as a join");
    refusal.initCause(cause);
    return refusal;
  }

  private static String types(String text) {
    return text.replaceAll("[<>]", "")
        .replaceAll("CHAR\\(\\d+\\)", "text")
        .replaceAll("VARtext|VARCHAR", "text");
  }

  private static String plain(String message) {
    String text = message.replaceAll(" *'?SqlTypeName\\.?", " ").strip();
    text = text.replaceAll("'(\\w+)'", "\"$1\"");
    if (text.startsWith("Expression ") && text.endsWith("is not being grouped")) {
      return text.replace("Expression ", "")
          .replace("is not being grouped", "must be in GROUP BY or inside an aggregate");
    }
    boolean word = text.length() > 1 && Character.isUpperCase(text.charAt(1)); // RANGE
    return text.isEmpty() || word
        ? text
        : Character.toLowerCase(text.charAt(0)) + text.substring(1);
  }

  private static List<String> columnNames(List<CatalogObject> relations) {
    return relations.stream().flatMap(o -> o.schema().names().stream()).toList();
  }

  private static String columnsThere(List<CatalogObject> relations) {
    return relations.isEmpty()
        ? "nothing is read from: FROM names a stream, table or view"
        : relations.stream()
            .map(o -> o.name() + " has " + String.join(", ", o.schema().names()))
            .collect(Collectors.joining("; "));
  }

  static String firstLine(String message) {
    return message.lines().findFirst().orElse("").strip();
  }

  /** The candidate closest to the word, if it is close at all; else null. */
  static String nearest(String word, Collection<String> candidates) {
    String best = null;
    int bestDistance = Math.max(1, word.length() / 3) + 1;
    for (String candidate : candidates) {
      int d = distance(word, candidate);
      if (d < bestDistance) {
        best = candidate;
        bestDistance = d;
      }
    }
    return best;
  }

  /** Damerau–Levenshtein distance with adjacent transpositions. */
  private static int distance(String a, String b) {
    int[][] d = new int[a.length() + 1][b.length() + 1];
    for (int i = 0; i <= a.length(); i++) {
      for (int j = 0; j <= b.length(); j++) {
        if (i == 0 || j == 0) {
          d[i][j] = i + j;
          continue;
        }
        int cost = a.charAt(i - 1) == b.charAt(j - 1) ? 0 : 1;
        d[i][j] = Math.min(Math.min(d[i - 1][j], d[i][j - 1]) + 1, d[i - 1][j - 1] + cost);
        if (i > 1
            && j > 1
            && a.charAt(i - 1) == b.charAt(j - 2)
            && a.charAt(i - 2) == b.charAt(j - 1)) {
          d[i][j] = Math.min(d[i][j], d[i - 2][j - 2] + 1);
        }
      }
    }
    return d[a.length()][b.length()];
  }
}
