package dripledger.engine.expr;

import java.math.BigDecimal;
import java.math.RoundingMode;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;

/**
 * A pattern of to_char for numbers: 9 and 0 are digits, one of which is there only if it must be,
 * with . (D) and , (G) between them, a sign as S, MI, PL, SG or PR, FM without blanks, and text in
 * quotes. Immutable.
 */
final class NumberPattern {
  private static final int MAX_DIGITS = 100;
  private static final int MAX_LENGTH = 1000;

  private enum Kind {
    NINE,
    ZERO,
    POINT,
    GROUP,
    SIGN,
    MINUS,
    PLUS,
    ANY_SIGN,
    TEXT
  }

  private record Part(Kind kind, String text) {}

  private final List<Part> parts = new ArrayList<>();
  private boolean tight; // FM
  private boolean angles; // PR
  private int whole; // digits before the point
  private int fraction;
  private int firstZero = Integer.MAX_VALUE; // among those before the point
  private boolean pointSeen;

  private NumberPattern(String pattern) {
    if (pattern.length() > MAX_LENGTH) {
      throw new Casts.CastException("a pattern of to_char has up to " + MAX_LENGTH + " characters");
    }
    int at = 0;
    while (at < pattern.length()) {
      at = read(pattern, at);
    }
    if (whole + fraction > MAX_DIGITS) {
      throw new Casts.CastException("a pattern of to_char has up to " + MAX_DIGITS + " digits");
    }
  }

  /** Writes a number. */
  static String format(BigDecimal number, String pattern) {
    return new NumberPattern(pattern).format(number);
  }

  private int read(String pattern, int at) {
    String rest = pattern.substring(at).toUpperCase(Locale.ROOT);
    for (String no : List.of("EEEE", "RN", "TH", "V", "L", "B")) {
      if (rest.startsWith(no)) {
        throw new Casts.CastException("to_char does not know " + no + " in a pattern of numbers");
      }
    }
    if (rest.startsWith("FM")) {
      tight = true;
      return at + 2;
    }
    if (rest.startsWith("PR")) {
      angles = true;
      return at + 2;
    }
    if (rest.startsWith("MI")) {
      return add(Kind.MINUS, at + 2);
    }
    if (rest.startsWith("PL")) {
      return add(Kind.PLUS, at + 2);
    }
    if (rest.startsWith("SG")) {
      return add(Kind.ANY_SIGN, at + 2);
    }
    char c = rest.charAt(0);
    switch (c) {
      case '9', '0' -> digit(c == '0');
      case '.', 'D' -> {
        if (pointSeen) {
          throw new Casts.CastException("a pattern of to_char has one point");
        }
        pointSeen = true;
        add(Kind.POINT, at);
      }
      case ',', 'G' -> add(Kind.GROUP, at);
      case 'S' -> add(Kind.SIGN, at);
      case '"' -> {
        int end = pattern.indexOf('"', at + 1);
        end = end < 0 ? pattern.length() : end;
        parts.add(new Part(Kind.TEXT, pattern.substring(at + 1, end)));
        return Math.min(pattern.length(), end + 1);
      }
      default -> parts.add(new Part(Kind.TEXT, pattern.substring(at, at + 1)));
    }
    return at + 1;
  }

  private int add(Kind kind, int next) {
    parts.add(new Part(kind, ""));
    return next;
  }

  private void digit(boolean zero) {
    parts.add(new Part(zero ? Kind.ZERO : Kind.NINE, ""));
    if (pointSeen) {
      fraction++;
    } else {
      firstZero = zero ? Math.min(firstZero, whole) : firstZero;
      whole++;
    }
  }

  private String format(BigDecimal number) {
    BigDecimal rounded = number.abs().setScale(fraction, RoundingMode.HALF_UP);
    String all = rounded.unscaledValue().toString();
    all = "0".repeat(Math.max(0, fraction + 1 - all.length())) + all;
    String before = all.substring(0, all.length() - fraction);
    String after = all.substring(all.length() - fraction);
    boolean tooLarge = before.length() > whole && !before.equals("0");
    if (before.equals("0") && (fraction > 0 || whole == 0)) {
      before = ""; // a zero is written where the pattern has one
    }
    int written = tooLarge ? fraction : writtenOfFraction(after);
    if (before.isEmpty() && whole > 0 && written == 0) {
      before = "0";
    }
    boolean signed = // the sign has no place of its own
        parts.stream()
            .noneMatch(p -> p.kind == Kind.MINUS || p.kind == Kind.ANY_SIGN || p.kind == Kind.SIGN);
    StringBuilder out = new StringBuilder();
    String sign = sign(number.signum() < 0, signed);
    boolean signPending = signed || parts.stream().anyMatch(p -> p.kind == Kind.SIGN);
    boolean signLast = isSignLast();
    if (signLast) {
      signPending = false;
    }
    int digit = 0;
    int behind = 0;
    boolean pointWritten = false;
    for (int i = 0; i < parts.size(); i++) {
      Part part = parts.get(i);
      switch (part.kind) {
        case NINE, ZERO -> {
          if (pointWritten) {
            if (behind < written) {
              out.append(tooLarge ? '#' : after.charAt(behind));
            }
            behind++;
            continue;
          }
          int place = digit++ - (whole - before.length());
          boolean there = tooLarge || place >= 0 || digit - 1 >= firstZero;
          if (there && signPending) {
            out.append(sign);
            signPending = false;
          }
          if (there) {
            out.append(tooLarge ? '#' : place >= 0 ? before.charAt(place) : '0');
          } else if (!tight) {
            out.append(' ');
          }
        }
        case POINT -> {
          if (signPending) {
            out.append(sign);
            signPending = false;
          }
          pointWritten = true;
          out.append(fraction > 0 || tooLarge ? "." : "");
        }
        case GROUP -> {
          boolean begun = tooLarge || digit > whole - before.length() || digit > firstZero;
          if (begun) {
            out.append(',');
          } else if (!tight) {
            out.append(' ');
          }
        }
        case SIGN -> {
          if (signLast) {
            out.append(number.signum() < 0 ? '-' : '+');
          }
        }
        case MINUS -> out.append(number.signum() < 0 ? "-" : tight ? "" : " ");
        case PLUS -> out.append(number.signum() >= 0 ? "+" : tight ? "" : " ");
        case ANY_SIGN -> out.append(number.signum() < 0 ? '-' : '+');
        default -> out.append(part.text);
      }
    }
    if (angles) {
      out.append(number.signum() < 0 ? ">" : tight ? "" : " ");
    }
    return out.toString();
  }

  private String sign(boolean negative, boolean signed) {
    if (angles) {
      return negative ? "<" : tight ? "" : " ";
    }
    if (!signed) {
      return negative ? "-" : "+"; // S
    }
    return negative ? "-" : tight ? "" : " ";
  }

  /** Whether S stands behind the digits. */
  private boolean isSignLast() {
    boolean digits = false;
    for (Part part : parts) {
      if (part.kind == Kind.SIGN) {
        return digits;
      }
      digits |= part.kind == Kind.NINE || part.kind == Kind.ZERO;
    }
    return false;
  }

  /** How many digits behind the point are written: zeros at the end are not if it is FM. */
  private int writtenOfFraction(String after) {
    if (!tight) {
      return fraction;
    }
    int written = 0;
    int digit = 0;
    boolean behind = false;
    for (Part part : parts) {
      behind |= part.kind == Kind.POINT;
      if (behind && (part.kind == Kind.NINE || part.kind == Kind.ZERO)) {
        digit++;
        if (part.kind == Kind.ZERO || after.charAt(digit - 1) != '0') {
          written = digit;
        }
      }
    }
    return written;
  }
}
