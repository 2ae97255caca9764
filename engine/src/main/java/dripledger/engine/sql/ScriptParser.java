package dripledger.engine.sql;

import dripledger.grammar.parser.DripParser;
import java.util.HashSet;
import java.util.Locale;
import java.util.Set;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.parser.SqlParseException;
import org.apache.calcite.sql.parser.SqlParser;
import org.apache.calcite.sql.parser.SqlParserPos;

/**
 * Parses scripts. Words that the grammar needs and PostgreSQL allows as names are both: where the
 * grammar has no use for one, it is read again as a name. Stateless.
 */
final class ScriptParser {
  /** What PostgreSQL allows as names of columns and tables, and the grammar cannot by itself. */
  private static final Set<String> WORDS =
      Set.of(
          ("alter begin between bigint bit boolean by call char character cube decimal delete double"
                  + " drop exists explain extract float insert int integer interval merge nchar new"
                  + " next numeric overlay position precision real rollup row set skip smallint"
                  + " substring trim uescape unknown update values varchar")
              .split(" "));

  private static final Pattern TOKEN =
      Pattern.compile(
          "--[^\n]*|/\\*.*?\\*/|'[^']*'|\"[^\"]*\"|[A-Za-z_][A-Za-z_0-9$]*|\\S", Pattern.DOTALL);
  private static final int MOST = 200; // such names in a script

  private ScriptParser() {}

  static SqlNodeList parse(String text) throws SqlParseException {
    String script = withoutLateral(text);
    Set<Long> names = new HashSet<>();
    SqlParseException furthest = null;
    while (true) {
      try {
        return parser(script, names).parseStmtList();
      } catch (SqlParseException e) {
        if (furthest == null || isBehind(e.getPos(), furthest.getPos())) {
          furthest = e;
        }
        boolean isGrammar = String.valueOf(e.getMessage()).startsWith("Encountered");
        if (!isGrammar
            || e.getPos() == null
            || names.size() == MOST
            || !addName(script, e.getPos(), names)) {
          throw furthest;
        }
      }
    }
  }

  /**
   * Leaves LATERAL out, as blanks, before a function in FROM, which sees the rows beside it anyway:
   * the grammar knows the word before a query only.
   */
  private static String withoutLateral(String text) {
    if (!text.toUpperCase(Locale.ROOT).contains("LATERAL")) {
      return text;
    }
    StringBuilder script = new StringBuilder(text);
    int[] word = {-1, -1}; // where LATERAL is
    boolean function = false; // whether what follows it is a name
    for (Matcher m = TOKEN.matcher(text); m.find(); ) {
      String token = m.group().toUpperCase(Locale.ROOT);
      if (token.startsWith("--") || token.startsWith("/*")) {
        continue;
      }
      if (function && token.equals("(")) {
        script.replace(word[0], word[1], " ".repeat(word[1] - word[0]));
      }
      function =
          word[0] >= 0
              && !function
              && Character.isLetter(token.charAt(0))
              && !token.equals("TABLE")
              && !token.equals("UNNEST");
      if (!function) {
        word[0] = token.equals("LATERAL") ? m.start() : -1;
        word[1] = m.end();
      }
    }
    return script.toString();
  }

  private static SqlParser parser(String script, Set<Long> names) {
    return SqlParser.create(
        script,
        Dialect.PARSER.withParserFactory(
            reader -> {
              DripParser parser = (DripParser) DripParser.FACTORY.getParser(reader);
              parser.token_source.names = names;
              return parser;
            }));
  }

  private static boolean isBehind(SqlParserPos a, SqlParserPos b) {
    return a != null
        && b != null
        && (a.getLineNum() > b.getLineNum()
            || a.getLineNum() == b.getLineNum() && a.getColumnNum() > b.getColumnNum());
  }

  /** Takes the word that was not expected for a name, or the one beside it. */
  private static boolean addName(String script, SqlParserPos at, Set<Long> names) {
    long place = place(at.getLineNum(), at.getColumnNum());
    Token before = null;
    int line = 1;
    int lineStart = 0;
    int seen = 0;
    for (Matcher m = TOKEN.matcher(script); m.find(); ) {
      for (; seen < m.start(); seen++) {
        if (script.charAt(seen) == '\n') {
          line++;
          lineStart = seen + 1;
        }
      }
      if (m.group().startsWith("--") || m.group().startsWith("/*")) {
        continue;
      }
      Token token = new Token(m.group(), place(line, m.start() - lineStart + 1));
      boolean afterDot = before != null && before.text.equals(".") && before.place == place;
      if (afterDot || token.place == place && !token.text.equals(".")) {
        return token.isNameNow(names) || before != null && before.isNameNow(names);
      }
      if (token.place > place) {
        break;
      }
      before = token;
    }
    return before != null && before.isNameNow(names);
  }

  private record Token(String text, long place) {
    boolean isNameNow(Set<Long> names) {
      return WORDS.contains(text.toLowerCase(Locale.ROOT)) && names.add(place);
    }
  }

  private static long place(int line, int column) {
    return (long) line << 32 | column;
  }
}
