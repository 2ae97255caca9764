package dripledger.engine.expr;

import java.util.Arrays;

/**
 * A LIKE pattern. Matched from left to right with one place to come back to, the last {@code %}: in
 * time proportional to text times pattern at worst, and no more whatever the pattern. Immutable.
 */
public final class LikePattern {
  private static final int ONE = -1; // any character
  private static final int MANY = -2; // any number of them

  private final int[] parts;
  private final boolean ignoreCase;

  private LikePattern(int[] parts, boolean ignoreCase) {
    this.parts = parts;
    this.ignoreCase = ignoreCase;
  }

  /**
   * @param escape what stands before a character that means itself; empty for none
   */
  static LikePattern of(String like, String escape, boolean ignoreCase) {
    if (escape.codePointCount(0, escape.length()) > 1) {
      throw new Casts.CastException("ESCAPE is one character or none");
    }
    int escapeChar = escape.isEmpty() ? -1 : escape.codePointAt(0);
    int[] points = like.codePoints().toArray();
    int[] parts = new int[points.length];
    int count = 0;
    for (int i = 0; i < points.length; i++) {
      int c = points[i];
      if (c == escapeChar) {
        if (++i == points.length) {
          throw new Casts.CastException("a LIKE pattern must not end with its escape character");
        }
        parts[count++] = fold(points[i], ignoreCase);
      } else if (c != '%') {
        parts[count++] = c == '_' ? ONE : fold(c, ignoreCase);
      } else if (count == 0 || parts[count - 1] != MANY) {
        parts[count++] = MANY;
      }
    }
    return new LikePattern(Arrays.copyOf(parts, count), ignoreCase);
  }

  private static int fold(int c, boolean ignoreCase) {
    return ignoreCase ? Character.toLowerCase(Character.toUpperCase(c)) : c;
  }

  boolean matches(String text) {
    int at = 0; // in the text
    int part = 0;
    int many = -1; // the last part that takes any number
    int resumed = 0; // where in the text what follows it is tried
    while (at < text.length()) {
      int c = text.codePointAt(at);
      if (part < parts.length && parts[part] == MANY) {
        many = part++;
        resumed = at;
      } else if (part < parts.length
          && (parts[part] == ONE || parts[part] == fold(c, ignoreCase))) {
        part++;
        at += Character.charCount(c);
      } else if (many >= 0) {
        resumed += Character.charCount(text.codePointAt(resumed));
        at = resumed;
        part = many + 1;
      } else {
        return false;
      }
    }
    while (part < parts.length && parts[part] == MANY) {
      part++;
    }
    return part == parts.length;
  }
}
