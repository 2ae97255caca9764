package dripledger.engine.pattern;

import java.util.List;

/**
 * Where the next match may begin.
 *
 * @param of the variables whose row it is, if it is that of a variable
 */
public record AfterMatch(Place place, List<Integer> of) {
  public AfterMatch {
    of = List.copyOf(of);
  }

  /** Where it may be. */
  public enum Place {
    PAST_LAST_ROW,
    NEXT_ROW,
    FIRST_OF,
    LAST_OF
  }
}
