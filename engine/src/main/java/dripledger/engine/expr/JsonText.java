package dripledger.engine.expr;

import com.fasterxml.jackson.core.io.JsonStringEncoder;

/** How single values are written in JSON. Called by generated code too; stateless. */
public final class JsonText {
  private static final JsonStringEncoder JSON = JsonStringEncoder.getInstance();

  private JsonText() {}

  /** Text, in quotes. */
  public static String quoted(String value) {
    return '"' + new String(JSON.quoteAsString(value)) + '"';
  }

  /** The name of a member; that of none is an error. */
  public static String name(String name) {
    if (name == null) {
      throw new Casts.CastException("a name in an object is NULL");
    }
    return quoted(name);
  }

  /** A floating-point number; what JSON has no number for is text. */
  public static String number(double value) {
    boolean whole = value == Math.rint(value) && Math.abs(value) < 1e15;
    return Double.isNaN(value) || Double.isInfinite(value)
        ? '"' + String.valueOf(value) + '"'
        : whole ? String.valueOf((long) value) : String.valueOf(value);
  }

  /** A timestamp as ISO 8601 has it, in quotes; of what SQL makes of it. */
  public static String timestamp(String text) {
    return '"' + text.replace(' ', 'T') + '"';
  }
}
