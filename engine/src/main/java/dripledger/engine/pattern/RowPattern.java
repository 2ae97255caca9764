package dripledger.engine.pattern;

import java.util.ArrayList;
import java.util.List;
import java.util.stream.Collectors;

/**
 * A regular expression over rows: the PATTERN of the SQL standard's row pattern recognition
 * (ISO/IEC 9075-2, row pattern). Variables are numbers. Immutable data.
 */
public sealed interface RowPattern {
  /** A row that meets the condition of a variable. */
  record Variable(int number) implements RowPattern {}

  /** One after the other; the empty pattern if there is none. */
  record Sequence(List<RowPattern> parts) implements RowPattern {
    public Sequence {
      parts = List.copyOf(parts);
    }
  }

  /** One of several, the first preferred. */
  record Choice(List<RowPattern> parts) implements RowPattern {
    public Choice {
      parts = List.copyOf(parts);
    }
  }

  /**
   * Several times.
   *
   * @param most −1 for any number
   * @param reluctant whether fewer are preferred
   */
  record Repeat(RowPattern part, int least, int most, boolean reluctant) implements RowPattern {}

  /** Rows that are matched and not put out. */
  record Excluded(RowPattern part) implements RowPattern {}

  /** All parts in any order; the orders are preferred as their parts are written. */
  static RowPattern permuted(List<RowPattern> parts) {
    if (parts.size() == 1) {
      return parts.get(0);
    }
    List<RowPattern> orders = new ArrayList<>();
    for (int i = 0; i < parts.size(); i++) {
      List<RowPattern> rest = new ArrayList<>(parts);
      RowPattern first = rest.remove(i);
      orders.add(new Sequence(List.of(first, permuted(rest))));
    }
    return new Choice(orders);
  }

  /** How many rows a match has at most; −1 for any number. */
  static long mostRows(RowPattern pattern) {
    if (pattern instanceof Variable) {
      return 1;
    }
    if (pattern instanceof Excluded e) {
      return mostRows(e.part());
    }
    if (pattern instanceof Repeat r) {
      long part = mostRows(r.part());
      return part < 0 || part > 0 && r.most() < 0 ? -1 : part * r.most();
    }
    List<RowPattern> parts = pattern instanceof Sequence s ? s.parts() : ((Choice) pattern).parts();
    long most = 0;
    for (RowPattern each : parts) {
      long part = mostRows(each);
      if (part < 0) {
        return -1;
      }
      most = pattern instanceof Sequence ? most + part : Math.max(most, part);
    }
    return most;
  }

  /** The pattern as it is written, by the names of its variables. */
  static String text(RowPattern pattern, List<String> names) {
    if (pattern instanceof Variable v) {
      return names.get(v.number());
    }
    if (pattern instanceof Sequence s) {
      return s.parts().isEmpty()
          ? "()"
          : s.parts().stream()
              .map(p -> p instanceof Choice ? "(" + text(p, names) + ")" : text(p, names))
              .collect(Collectors.joining(" "));
    }
    if (pattern instanceof Choice c) {
      return c.parts().stream().map(p -> text(p, names)).collect(Collectors.joining(" | "));
    }
    if (pattern instanceof Excluded e) {
      return "{- " + text(e.part(), names) + " -}";
    }
    Repeat r = (Repeat) pattern;
    String part = text(r.part(), names);
    String times =
        r.least() == 0 && r.most() == 1
            ? "?"
            : r.most() < 0 && r.least() < 2
                ? r.least() == 0 ? "*" : "+"
                : r.least() == r.most()
                    ? "{" + r.least() + "}"
                    : "{" + r.least() + "," + (r.most() < 0 ? "" : r.most()) + "}";
    return (r.part() instanceof Variable ? part : "(" + part + ")")
        + times
        + (r.reluctant() ? "?" : "");
  }
}
