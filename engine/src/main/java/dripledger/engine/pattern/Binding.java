package dripledger.engine.pattern;

/**
 * A row of a match that is being made, with those in front of it; matches that begin alike share
 * them.
 *
 * @param before the row in front of it, or null if it is the first
 * @param variable that it is matched to
 * @param position where it is among the rows
 * @param excluded whether it is not put out
 * @param count how many rows these are
 */
public record Binding(Binding before, int variable, int position, boolean excluded, int count) {
  /** A row behind others, which may be null. */
  static Binding of(Binding before, int variable, int position, boolean excluded) {
    int count = before == null ? 1 : before.count + 1;
    return new Binding(before, variable, position, excluded, count);
  }
}
