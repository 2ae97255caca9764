package dripledger.engine.expr;

import java.math.BigDecimal;
import java.math.RoundingMode;

/**
 * Functions of numbers, found by the compiler by name and number of arguments. All are strict (NULL
 * in, NULL out, handled by the caller), pure, and answer what PostgreSQL answers.
 */
public final class NumberBuiltins {
  private NumberBuiltins() {}

  private static RuntimeException fail(String message) {
    return new Casts.CastException(message);
  }

  public static String to_char(long number, String pattern) {
    return NumberPattern.format(BigDecimal.valueOf(number), pattern);
  }

  public static String to_char(BigDecimal number, String pattern) {
    return NumberPattern.format(number, pattern);
  }

  public static String to_char(double number, String pattern) {
    if (!Double.isFinite(number)) {
      throw fail("to_char writes finite numbers");
    }
    return NumberPattern.format(new BigDecimal(Double.toString(number)), pattern);
  }

  public static long divide(long a, long b) {
    if (b == 0) {
      throw fail("division by zero");
    }
    if (a == Long.MIN_VALUE && b == -1) {
      throw fail("BIGINT out of range");
    }
    return a / b;
  }

  public static double divide(double a, double b) {
    if (b == 0) {
      throw fail("division by zero");
    }
    return a / b;
  }

  public static BigDecimal divide(BigDecimal a, BigDecimal b, int scale) {
    if (b.signum() == 0) {
      throw fail("division by zero");
    }
    return a.divide(b, scale, RoundingMode.HALF_UP);
  }

  public static long mod(long a, long b) {
    if (b == 0) {
      throw fail("division by zero");
    }
    return b == -1 ? 0 : a % b;
  }

  public static BigDecimal mod(BigDecimal a, BigDecimal b) {
    if (b.signum() == 0) {
      throw fail("division by zero");
    }
    return a.remainder(b);
  }

  public static double finite(double value) {
    if (Double.isInfinite(value)) {
      throw fail("DOUBLE out of range");
    }
    return value;
  }

  public static long abs(long v) {
    return Math.absExact(v);
  }

  public static double abs(double v) {
    return Math.abs(v);
  }

  public static BigDecimal abs(BigDecimal v) {
    return v.abs();
  }

  public static long sign(long v) {
    return Long.signum(v);
  }

  public static double sign(double v) {
    return Math.signum(v);
  }

  public static BigDecimal sign(BigDecimal v) {
    return BigDecimal.valueOf(v.signum());
  }

  public static long floor(long v) {
    return v;
  }

  public static double floor(double v) {
    return Math.floor(v);
  }

  public static BigDecimal floor(BigDecimal v) {
    return v.setScale(0, RoundingMode.FLOOR);
  }

  public static long ceil(long v) {
    return v;
  }

  public static double ceil(double v) {
    return Math.ceil(v);
  }

  public static BigDecimal ceil(BigDecimal v) {
    return v.setScale(0, RoundingMode.CEILING);
  }

  public static long round(long v) {
    return v;
  }

  public static double round(double v) {
    return Math.rint(v);
  }

  public static BigDecimal round(BigDecimal v) {
    return v.setScale(0, RoundingMode.HALF_UP);
  }

  public static long round(long v, long digits) {
    return round(BigDecimal.valueOf(v), digits).longValueExact();
  }

  public static double round(double v, long digits) {
    return Double.isFinite(v) ? round(new BigDecimal(Double.toString(v)), digits).doubleValue() : v;
  }

  public static BigDecimal round(BigDecimal v, long digits) {
    return v.setScale(digits(digits), RoundingMode.HALF_UP);
  }

  public static long truncate(long v) {
    return v;
  }

  public static double truncate(double v) {
    return v < 0 ? Math.ceil(v) : Math.floor(v);
  }

  public static BigDecimal truncate(BigDecimal v) {
    return v.setScale(0, RoundingMode.DOWN);
  }

  public static BigDecimal truncate(BigDecimal v, long digits) {
    return v.setScale(digits(digits), RoundingMode.DOWN);
  }

  private static int digits(long digits) {
    return (int) Math.max(-38, Math.min(38, digits));
  }

  public static double sqrt(double v) {
    if (v < 0) {
      throw fail("square root of a negative number");
    }
    return Math.sqrt(v);
  }

  public static double exp(double v) {
    return finite(Math.exp(v));
  }

  public static double ln(double v) {
    if (v <= 0) {
      throw fail("logarithm of a number that is not positive");
    }
    return Math.log(v);
  }

  public static double log10(double v) {
    if (v <= 0) {
      throw fail("logarithm of a number that is not positive");
    }
    return Math.log10(v);
  }

  public static double power(double base, double exponent) {
    if (base == 0 && exponent < 0 || base < 0 && exponent != Math.rint(exponent)) {
      throw fail("POWER has no real result here");
    }
    return finite(Math.pow(base, exponent));
  }

  public static double pi() {
    return Math.PI;
  }

  public static double sin(double v) {
    return Math.sin(v);
  }

  public static double cos(double v) {
    return Math.cos(v);
  }

  public static double tan(double v) {
    return Math.tan(v);
  }

  public static double atan(double v) {
    return Math.atan(v);
  }

  public static double atan2(double y, double x) {
    return Math.atan2(y, x);
  }

  public static double radians(double v) {
    return Math.toRadians(v);
  }

  public static double degrees(double v) {
    return Math.toDegrees(v);
  }

  public static double cbrt(double v) {
    return Math.cbrt(v);
  }

  public static double asin(double v) {
    return inUnit(v, Math.asin(v));
  }

  public static double acos(double v) {
    return inUnit(v, Math.acos(v));
  }

  private static double inUnit(double v, double result) {
    if (v < -1 || v > 1) {
      throw fail("input is out of range");
    }
    return result;
  }

  public static double sinh(double v) {
    return Math.sinh(v);
  }

  public static double cosh(double v) {
    return Math.cosh(v);
  }

  public static double tanh(double v) {
    return Math.tanh(v);
  }

  public static double cot(double v) {
    return 1 / Math.tan(v);
  }

  /** To base 10, as PostgreSQL has it. */
  public static double log(double v) {
    return log10(v);
  }

  public static double log(double base, double v) {
    return ln(v) / ln(base);
  }

  /** The quotient without its fraction. */
  public static BigDecimal div(BigDecimal a, BigDecimal b) {
    if (b.signum() == 0) {
      throw fail("division by zero");
    }
    return a.divideToIntegralValue(b).setScale(0, java.math.RoundingMode.DOWN);
  }

  /** Digits behind the point. */
  public static long scale(BigDecimal v) {
    return v.scale();
  }

  public static long gcd(long a, long b) {
    long x = a;
    long y = b;
    while (y != 0) {
      long rest = x % y;
      x = y;
      y = rest;
    }
    return Math.absExact(x);
  }

  public static long lcm(long a, long b) {
    return a == 0 || b == 0 ? 0 : Math.absExact(Math.multiplyExact(a / gcd(a, b), b));
  }

  /** In which of so many equal parts of a range a value lies; 0 below, one more than that above. */
  public static long width_bucket(double v, double low, double high, long parts) {
    if (parts <= 0 || low == high || Double.isNaN(v + low + high)) {
      throw fail("width_bucket needs a range and a number of parts greater than 0");
    }
    boolean up = low < high;
    if (up ? v < low : v > low) {
      return 0;
    }
    if (up ? v >= high : v <= high) {
      return parts + 1;
    }
    return (long) ((v - low) / (high - low) * parts) + 1;
  }
}
