package dripledger.server.wire;

import java.util.ArrayList;
import java.util.List;
import java.util.Locale;

/**
 * Cuts SQL text into words, as the standard and PostgreSQL have them: what is inside of texts,
 * quoted names and comments is no word. Text that ends inside of one is cut at its end. Stateless.
 */
final class Lexer {
  /** What a token is. */
  enum Kind {
    WORD,
    QUOTED_NAME,
    TEXT,
    NUMBER,
    PARAMETER,
    SYMBOL
  }

  /** A token and where it is; words are in lower case, quoted names and texts without quotes. */
  record Token(Kind kind, String text, int from, int to) {
    boolean is(String word) {
      return (kind == Kind.WORD || kind == Kind.SYMBOL) && text.equals(word);
    }

    /** Whether it can be a name. */
    boolean isName() {
      return kind == Kind.WORD || kind == Kind.QUOTED_NAME;
    }
  }

  private final String sql;
  private final List<Token> tokens = new ArrayList<>();
  private int at;

  private Lexer(String sql) {
    this.sql = sql;
  }

  static List<Token> tokens(String sql) {
    Lexer lexer = new Lexer(sql);
    lexer.run();
    return lexer.tokens;
  }

  private void run() {
    while (at < sql.length()) {
      char c = sql.charAt(at);
      if (Character.isWhitespace(c)) {
        at++;
      } else if (sql.startsWith("--", at)) {
        int line = sql.indexOf('\n', at);
        at = line < 0 ? sql.length() : line + 1;
      } else if (sql.startsWith("/*", at)) {
        comment();
      } else if (c == '\'') {
        text(at, false);
      } else if ((c == 'e' || c == 'E') && isNext('\'')) {
        at++;
        text(at - 1, true);
      } else if ((c == 'b' || c == 'B' || c == 'x' || c == 'X' || c == 'n' || c == 'N')
          && isNext('\'')) {
        at++;
        text(at - 1, false);
      } else if (c == '"') {
        quoted();
      } else if (c == '$') {
        dollar();
      } else if (Character.isDigit(c)) {
        number();
      } else if (isLetter(c)) {
        int from = at;
        while (at < sql.length() && (isLetter(sql.charAt(at)) || isInWord(sql.charAt(at)))) {
          at++;
        }
        add(Kind.WORD, sql.substring(from, at).toLowerCase(Locale.ROOT), from);
      } else {
        add(Kind.SYMBOL, String.valueOf(c), at++);
      }
    }
  }

  private boolean isNext(char c) {
    return at + 1 < sql.length() && sql.charAt(at + 1) == c;
  }

  private static boolean isLetter(char c) {
    return c == '_' || c >= 128 || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z';
  }

  private static boolean isInWord(char c) {
    return c >= '0' && c <= '9' || c == '$';
  }

  private void add(Kind kind, String text, int from) {
    tokens.add(new Token(kind, text, from, Math.max(at, from + 1)));
  }

  private void comment() {
    int depth = 0;
    do {
      if (sql.startsWith("/*", at)) {
        depth++;
        at += 2;
      } else if (sql.startsWith("*/", at)) {
        depth--;
        at += 2;
      } else {
        at++;
      }
    } while (depth > 0 && at < sql.length());
  }

  private void text(int from, boolean escapes) {
    StringBuilder text = new StringBuilder();
    at++;
    while (at < sql.length()) {
      char c = sql.charAt(at);
      if (c == '\'') {
        if (!isNext('\'')) {
          break;
        }
        at++;
      } else if (c == '\\' && escapes && at + 1 < sql.length()) {
        at++;
        c = sql.charAt(at);
      }
      text.append(c);
      at++;
    }
    at = Math.min(sql.length(), at + 1);
    add(Kind.TEXT, text.toString(), from);
  }

  private void quoted() {
    int from = at;
    StringBuilder name = new StringBuilder();
    at++;
    while (at < sql.length()) {
      char c = sql.charAt(at);
      if (c == '"') {
        if (!isNext('"')) {
          break;
        }
        at++;
      }
      name.append(c);
      at++;
    }
    at = Math.min(sql.length(), at + 1);
    add(Kind.QUOTED_NAME, name.toString(), from);
  }

  /** A numbered parameter, or text between tags. */
  private void dollar() {
    int from = at;
    int end = at + 1;
    while (end < sql.length() && Character.isDigit(sql.charAt(end))) {
      end++;
    }
    if (end > at + 1) {
      at = end;
      add(Kind.PARAMETER, sql.substring(from, end), from);
      return;
    }
    while (end < sql.length()
        && (isLetter(sql.charAt(end)) || Character.isDigit(sql.charAt(end)))) {
      end++;
    }
    if (end >= sql.length() || sql.charAt(end) != '$') {
      add(Kind.SYMBOL, "$", at++);
      return;
    }
    String tag = sql.substring(from, end + 1);
    int close = sql.indexOf(tag, end + 1);
    at = close < 0 ? sql.length() : close + tag.length();
    add(Kind.TEXT, sql.substring(end + 1, close < 0 ? sql.length() : close), from);
  }

  private void number() {
    int from = at;
    while (at < sql.length()) {
      char c = sql.charAt(at);
      boolean exponent =
          (c == '+' || c == '-')
              && (sql.charAt(at - 1) == 'e' || sql.charAt(at - 1) == 'E')
              && at + 1 < sql.length()
              && Character.isDigit(sql.charAt(at + 1));
      if (!Character.isDigit(c) && c != '.' && c != 'e' && c != 'E' && !exponent) {
        break;
      }
      at++;
    }
    add(Kind.NUMBER, sql.substring(from, at), from);
  }
}
