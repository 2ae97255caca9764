package dripledger.engine.expr;

/**
 * Which rows around a row a window function is about.
 *
 * @param unit what offsets count
 * @param from where it begins
 * @param to where it ends, that included
 */
public record Frame(Unit unit, Bound from, Bound to, Exclusion exclusion) {
  /** All rows of the partition. */
  public static final Frame WHOLE =
      new Frame(
          Unit.RANGE,
          new Bound(Place.UNBOUNDED_PRECEDING, 0, 0),
          new Bound(Place.UNBOUNDED_FOLLOWING, 0, 0),
          Exclusion.NONE);

  /** What offsets of a bound count. */
  public enum Unit {
    ROWS,
    /** Peers together. */
    GROUPS,
    RANGE
  }

  /** Where a bound is. */
  public enum Place {
    UNBOUNDED_PRECEDING,
    PRECEDING,
    CURRENT,
    FOLLOWING,
    UNBOUNDED_FOLLOWING
  }

  /** Which rows of the frame are left out. */
  public enum Exclusion {
    NONE,
    CURRENT_ROW,
    GROUP,
    TIES
  }

  /**
   * An end of a frame.
   *
   * @param offset in rows, or in units of the order column's slot
   * @param floating the same for an order column of floating point
   */
  public record Bound(Place place, long offset, double floating) {
    String text(Unit unit) {
      String number = floating != 0 ? String.valueOf(floating) : String.valueOf(offset);
      return switch (place) {
        case UNBOUNDED_PRECEDING -> "UNBOUNDED PRECEDING";
        case PRECEDING -> number + " PRECEDING";
        case CURRENT -> "CURRENT ROW";
        case FOLLOWING -> number + " FOLLOWING";
        case UNBOUNDED_FOLLOWING -> "UNBOUNDED FOLLOWING";
      };
    }
  }

  /** Whether it begins with the partition. */
  public boolean startsFirst() {
    return from.place() == Place.UNBOUNDED_PRECEDING;
  }

  /** Whether it ends with the partition. */
  public boolean endsLast() {
    return to.place() == Place.UNBOUNDED_FOLLOWING;
  }

  @Override
  public String toString() {
    return unit
        + " BETWEEN "
        + from.text(unit)
        + " AND "
        + to.text(unit)
        + (exclusion == Exclusion.NONE ? "" : " EXCLUDE " + exclusion.toString().replace('_', ' '));
  }
}
