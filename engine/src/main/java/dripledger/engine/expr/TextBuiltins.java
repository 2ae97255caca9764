package dripledger.engine.expr;

import java.nio.charset.StandardCharsets;
import java.security.MessageDigest;
import java.security.NoSuchAlgorithmException;
import java.util.HexFormat;
import java.util.Locale;
import java.util.regex.Pattern;

/**
 * Functions of text, found by the compiler by name and number of arguments: {@code UPPER(x)} calls
 * {@link #upper}. All are strict (NULL in, NULL out, handled by the caller), pure, and answer what
 * PostgreSQL answers. Text is counted in code points.
 */
public final class TextBuiltins {
  private static final int MAX_CHARS = 512 * 1024;

  private TextBuiltins() {}

  private static RuntimeException fail(String message) {
    return new Casts.CastException(message);
  }

  /** Whatever makes text longer says how long it would be, before it does. */
  private static void bounded(long length, String what) {
    if (length > MAX_CHARS) {
      throw fail(what + " would make a value above 512 KiB");
    }
  }

  /** {@code a || b}. */
  public static String concat(String a, String b) {
    bounded((long) a.length() + b.length(), "||");
    return a.concat(b);
  }

  /** Appends to what CONCAT puts together. */
  public static void append(StringBuilder to, String more) {
    bounded((long) to.length() + more.length(), "CONCAT");
    to.append(more);
  }

  public static String upper(String s) {
    return s.toUpperCase(Locale.ROOT);
  }

  public static String lower(String s) {
    return s.toLowerCase(Locale.ROOT);
  }

  public static String initcap(String s) {
    StringBuilder out = new StringBuilder(s.length());
    boolean inWord = false;
    for (int i = 0; i < s.length(); ) {
      int c = s.codePointAt(i);
      i += Character.charCount(c);
      out.appendCodePoint(inWord ? Character.toLowerCase(c) : Character.toUpperCase(c));
      inWord = Character.isLetterOrDigit(c);
    }
    return out.toString();
  }

  public static long char_length(String s) {
    return s.codePointCount(0, s.length());
  }

  public static long character_length(String s) {
    return char_length(s);
  }

  public static long length(String s) {
    return char_length(s);
  }

  public static long octet_length(String s) {
    return s.getBytes(StandardCharsets.UTF_8).length;
  }

  public static long bit_length(String s) {
    return 8 * octet_length(s);
  }

  public static long ascii(String s) {
    return s.isEmpty() ? 0 : s.codePointAt(0);
  }

  public static String chr(long code) {
    if (code <= 0 || code > Character.MAX_CODE_POINT) {
      throw fail(code + " is not a character");
    }
    return Character.toString((int) code);
  }

  private static String slice(String s, long from, long to) {
    long length = char_length(s);
    long lo = Math.max(0, from);
    long hi = Math.min(length, to);
    if (lo >= hi) {
      return "";
    }
    int start = s.offsetByCodePoints(0, (int) lo);
    return s.substring(start, s.offsetByCodePoints(start, (int) (hi - lo)));
  }

  public static String substring(String s, long from) {
    return slice(s, from - 1, Long.MAX_VALUE);
  }

  public static String substring(String s, long from, long count) {
    if (count < 0) {
      throw fail("negative substring length");
    }
    return slice(s, from - 1, from - 1 + count);
  }

  public static String substr(String s, long from) {
    return substring(s, from);
  }

  public static String substr(String s, long from, long count) {
    return substring(s, from, count);
  }

  public static String left(String s, long count) {
    return slice(s, 0, count >= 0 ? count : char_length(s) + count);
  }

  public static String right(String s, long count) {
    long length = char_length(s);
    return slice(s, count >= 0 ? length - count : -count, length);
  }

  public static String repeat(String s, long count) {
    if (count > 0) {
      bounded((long) s.length() * count, "REPEAT");
    }
    return count <= 0 ? "" : s.repeat((int) count);
  }

  public static String reverse(String s) {
    return new StringBuilder(s).reverse().toString();
  }

  public static String replace(String s, String what, String with) {
    if (what.isEmpty()) {
      return s;
    }
    if (with.length() > what.length()) {
      long times = 0;
      for (int at = s.indexOf(what); at >= 0; at = s.indexOf(what, at + what.length())) {
        times++;
      }
      bounded(s.length() + times * (with.length() - what.length()), "REPLACE");
    }
    return s.replace(what, with);
  }

  public static String translate(String s, String from, String to) {
    int[] source = from.codePoints().toArray();
    int[] target = to.codePoints().toArray();
    StringBuilder out = new StringBuilder(s.length());
    s.codePoints()
        .forEach(
            c -> {
              int i = 0;
              while (i < source.length && source[i] != c) {
                i++;
              }
              if (i == source.length) {
                out.appendCodePoint(c);
              } else if (i < target.length) {
                out.appendCodePoint(target[i]);
              }
            });
    return out.toString();
  }

  public static String translate3(String s, String from, String to) {
    return translate(s, from, to);
  }

  private static String pad(String s, long length, String fill, boolean left) {
    bounded(length, "padding");
    long size = char_length(s);
    if (length <= size) {
      return slice(s, 0, length);
    }
    if (fill.isEmpty()) {
      return s;
    }
    StringBuilder padding = new StringBuilder();
    int[] points = fill.codePoints().toArray();
    for (int i = 0; i < length - size; i++) {
      padding.appendCodePoint(points[i % points.length]);
    }
    return left ? padding + s : s + padding;
  }

  public static String lpad(String s, long length) {
    return pad(s, length, " ", true);
  }

  public static String lpad(String s, long length, String fill) {
    return pad(s, length, fill, true);
  }

  public static String rpad(String s, long length) {
    return pad(s, length, " ", false);
  }

  public static String rpad(String s, long length, String fill) {
    return pad(s, length, fill, false);
  }

  /** TRIM and its kin: every leading or trailing character that is in {@code characters}. */
  public static String trim(String s, String characters, boolean leading, boolean trailing) {
    int from = 0;
    int to = s.length();
    while (leading && from < to && characters.indexOf(s.codePointAt(from)) >= 0) {
      from += Character.charCount(s.codePointAt(from));
    }
    while (trailing && to > from && characters.indexOf(s.codePointBefore(to)) >= 0) {
      to -= Character.charCount(s.codePointBefore(to));
    }
    return s.substring(from, to);
  }

  public static String ltrim(String s) {
    return trim(s, " ", true, false);
  }

  public static String ltrim(String s, String characters) {
    return trim(s, characters, true, false);
  }

  public static String rtrim(String s) {
    return trim(s, " ", false, true);
  }

  public static String rtrim(String s, String characters) {
    return trim(s, characters, false, true);
  }

  public static String trim_leading(String s, String characters) {
    return ltrim(s, characters);
  }

  public static String trim_trailing(String s, String characters) {
    return rtrim(s, characters);
  }

  public static String btrim(String s) {
    return trim(s, " ", true, true);
  }

  public static String btrim(String s, String characters) {
    return trim(s, characters, true, true);
  }

  /** {@code OVERLAY(s PLACING with FROM from)}: as long as what is put there. */
  public static String overlay(String s, String with, long from) {
    return overlay(s, with, from, char_length(with));
  }

  public static String overlay(String s, String with, long from, long count) {
    if (from < 1) {
      throw fail("OVERLAY begins at 1 or behind");
    }
    long length = char_length(s);
    long start = Math.min(from, length + 1);
    String before = substring(s, 1, start - 1);
    long rest =
        Math.max(1, Math.min(length + 1, start + Math.max(-length, Math.min(count, length))));
    bounded((long) s.length() + with.length() + before.length(), "OVERLAY");
    return before + with + substring(s, rest);
  }

  public static String to_hex(long number) {
    return Long.toHexString(number);
  }

  public static long position(String what, String in) {
    int at = in.indexOf(what);
    return at < 0 ? 0 : in.codePointCount(0, at) + 1L;
  }

  public static long strpos(String in, String what) {
    return position(what, in);
  }

  public static boolean starts_with(String s, String prefix) {
    return s.startsWith(prefix);
  }

  public static String split_part(String s, String separator, long field) {
    if (field == 0) {
      throw fail("the field of SPLIT_PART counts from 1");
    }
    String[] parts = separator.isEmpty() ? new String[] {s} : s.split(Pattern.quote(separator), -1);
    long index = field > 0 ? field - 1 : parts.length + field;
    return index >= 0 && index < parts.length ? parts[(int) index] : "";
  }

  public static String md5(String s) {
    return digest("MD5", s);
  }

  public static String sha1(String s) {
    return digest("SHA-1", s);
  }

  private static String digest(String algorithm, String s) {
    try {
      return HexFormat.of()
          .formatHex(
              MessageDigest.getInstance(algorithm).digest(s.getBytes(StandardCharsets.UTF_8)));
    } catch (NoSuchAlgorithmException e) {
      throw new IllegalStateException(e);
    }
  }

  /** Comparison by code point, which is the order of the UTF-8 bytes. */
  public static int compare(String a, String b) {
    int n = Math.min(a.length(), b.length());
    for (int i = 0; i < n; i++) {
      char x = a.charAt(i);
      char y = b.charAt(i);
      if (x != y) {
        // Surrogates stand for code points above all other characters.
        boolean sx = Character.isSurrogate(x);
        boolean sy = Character.isSurrogate(y);
        return sx == sy ? x - y : sx ? 1 : -1;
      }
    }
    return a.length() - b.length();
  }

  /** A LIKE pattern; a backslash escapes unless another escape is given. */
  public static LikePattern likePattern(String like, String escape, boolean ignoreCase) {
    return LikePattern.of(like, escape, ignoreCase);
  }

  public static boolean like(String s, LikePattern pattern) {
    return pattern.matches(s);
  }
}
