package dripledger.server.wire;

/** In which form the values of an answer or of parameters are: text or binary. */
final class Formats {
  static final Formats TEXT = new Formats(new boolean[0], false);
  static final Formats BINARY = new Formats(new boolean[0], true);

  private final boolean[] each;
  private final boolean rest;

  private Formats(boolean[] each, boolean rest) {
    this.each = each;
    this.rest = rest;
  }

  /** As a message has them: none, one for all, or one for each. */
  static Formats read(WireInput in) throws WireInput.Malformed {
    int count = in.count(2);
    if (count == 0) {
      return TEXT;
    }
    if (count == 1) {
      return code(in) ? BINARY : TEXT;
    }
    boolean[] each = new boolean[count];
    for (int i = 0; i < count; i++) {
      each[i] = code(in);
    }
    return new Formats(each, false);
  }

  private static boolean code(WireInput in) throws WireInput.Malformed {
    int code = in.int16();
    if (code != 0 && code != 1) {
      throw new WireError("22023", "a format is 0 for text or 1 for binary, not " + code, null);
    }
    return code == 1;
  }

  boolean isBinary(int i) {
    return i < each.length ? each[i] : rest;
  }
}
