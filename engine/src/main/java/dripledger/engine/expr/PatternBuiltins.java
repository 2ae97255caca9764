package dripledger.engine.expr;

import com.google.re2j.Matcher;
import com.google.re2j.Pattern;
import com.google.re2j.PatternSyntaxException;
import dripledger.engine.row.ColumnType.Kind;
import java.util.ArrayList;
import java.util.List;

/**
 * Functions of regular expressions, in time that is linear in the text whatever the expression
 * (RE2). All are strict and pure. Flags as PostgreSQL has them: i, c, g, n, s.
 */
public final class PatternBuiltins {
  private static final int LONGEST = 1_000_000; // characters of an answer

  private record Compiled(String expression, String flags, Pattern pattern) {}

  private static final ThreadLocal<Compiled> LAST = new ThreadLocal<>();

  private PatternBuiltins() {}

  private static Pattern compiled(String expression, String flags) {
    Compiled last = LAST.get();
    if (last != null && last.expression.equals(expression) && last.flags.equals(flags)) {
      return last.pattern;
    }
    int options = 0;
    for (char flag : flags.toCharArray()) {
      switch (flag) {
        case 'i' -> options |= Pattern.CASE_INSENSITIVE;
        case 'c' -> options &= ~Pattern.CASE_INSENSITIVE;
        case 'n', 'm' -> options |= Pattern.MULTILINE;
        case 'g', 's' -> {}
        default -> throw new Casts.CastException("no flag of regular expressions: " + flag);
      }
    }
    if ((options & Pattern.MULTILINE) == 0) {
      options |= Pattern.DOTALL;
    }
    try {
      Pattern pattern = Pattern.compile(expression, options);
      LAST.set(new Compiled(expression, flags, pattern));
      return pattern;
    } catch (PatternSyntaxException e) {
      throw new Casts.CastException("not a regular expression: " + e.getMessage());
    }
  }

  public static boolean regexp_like(String text, String pattern) {
    return regexp_like(text, pattern, "");
  }

  public static boolean regexp_like(String text, String pattern, String flags) {
    return compiled(pattern, flags).matcher(text).find();
  }

  /**
   * What the groups of the first match are, or the match itself if there are none; NULL if there is
   * no match.
   */
  @Kinds(
      value = {Kind.VARCHAR, Kind.VARCHAR},
      result = Kind.ARRAY)
  public static byte[] regexp_match(String text, String pattern) {
    return match(text, compiled(pattern, ""));
  }

  @Kinds(
      value = {Kind.VARCHAR, Kind.VARCHAR, Kind.VARCHAR},
      result = Kind.ARRAY)
  public static byte[] regexp_match(String text, String pattern, String flags) {
    return match(text, compiled(pattern, flags));
  }

  private static byte[] match(String text, Pattern pattern) {
    Matcher matcher = pattern.matcher(text);
    if (!matcher.find()) {
      return null;
    }
    List<String> groups = new ArrayList<>();
    for (int i = Math.min(1, matcher.groupCount()); i <= matcher.groupCount(); i++) {
      groups.add(matcher.group(i));
    }
    return SeriesBuiltins.array(groups);
  }

  /** The standard's own expressions: those of LIKE, with alternatives, repetitions and sets. */
  public static boolean similar_to(String text, String pattern) {
    return similar_to(text, pattern, "\\");
  }

  public static boolean similar_to(String text, String pattern, String escape) {
    if (escape.codePointCount(0, escape.length()) > 1) {
      throw new Casts.CastException("an escape is one character, or none");
    }
    StringBuilder expression = new StringBuilder("^(?:");
    boolean inSet = false;
    for (int i = 0; i < pattern.length(); i++) {
      char c = pattern.charAt(i);
      if (!escape.isEmpty() && c == escape.charAt(0)) {
        if (++i == pattern.length()) {
          throw new Casts.CastException("the pattern ends with its escape");
        }
        expression.append(Pattern.quote(pattern.substring(i, i + 1)));
      } else if (inSet) {
        inSet = c != ']';
        expression.append(c == '\\' ? "\\\\" : String.valueOf(c));
      } else {
        inSet = c == '[';
        switch (c) {
          case '%' -> expression.append(".*");
          case '_' -> expression.append('.');
          case '(' -> expression.append("(?:");
          case '.', '^', '$', '\\' -> expression.append('\\').append(c);
          default -> expression.append(c);
        }
      }
    }
    try {
      return compiled(expression.append(")$").toString(), "").matcher(text).find();
    } catch (Casts.CastException e) {
      throw new Casts.CastException("not a pattern of SIMILAR TO: " + pattern);
    }
  }

  public static long regexp_count(String text, String pattern) {
    Matcher matcher = compiled(pattern, "").matcher(text);
    long count = 0;
    while (matcher.find()) {
      count++;
    }
    return count;
  }

  /** What is between the matches; none of them is empty at the start or the end. */
  static List<String> split(String text, String pattern) {
    Matcher matcher = compiled(pattern, "").matcher(text);
    List<String> parts = new ArrayList<>();
    int from = 0;
    while (matcher.find()) {
      boolean empty = matcher.end() == matcher.start();
      if (empty && (matcher.start() == from || matcher.start() == text.length())) {
        continue;
      }
      parts.add(text.substring(from, matcher.start()));
      from = matcher.end();
    }
    parts.add(text.substring(from));
    return parts;
  }

  /** The first match, or NULL. */
  public static String regexp_substr(String text, String pattern) {
    Matcher matcher = compiled(pattern, "").matcher(text);
    return matcher.find() ? matcher.group() : null;
  }

  public static String regexp_replace(String text, String pattern, String with) {
    return regexp_replace(text, pattern, with, "");
  }

  /**
   * Replaces the first match, or all with flag g; {@code \1} is the first group, {@code \&} all.
   */
  public static String regexp_replace(String text, String pattern, String with, String flags) {
    Matcher matcher = compiled(pattern, flags).matcher(text);
    boolean all = flags.indexOf('g') >= 0;
    StringBuilder out = new StringBuilder();
    int from = 0;
    while (matcher.find()) {
      out.append(text, from, matcher.start());
      appendGroups(matcher, with, out);
      from = matcher.end();
      if (out.length() > LONGEST) {
        throw new Casts.CastException("the result is too long");
      }
      if (!all) {
        break;
      }
    }
    return out.append(text, from, text.length()).toString();
  }

  private static void appendGroups(Matcher matcher, String with, StringBuilder out) {
    for (int i = 0; i < with.length(); i++) {
      char c = with.charAt(i);
      if (c != '\\' || i + 1 == with.length()) {
        out.append(c);
        continue;
      }
      char next = with.charAt(++i);
      if (next == '&') {
        out.append(matcher.group());
      } else if (Character.isDigit(next)) {
        int group = next - '0';
        String found = group <= matcher.groupCount() ? matcher.group(group) : null;
        out.append(found == null ? "" : found);
      } else {
        out.append(next);
      }
    }
  }
}
