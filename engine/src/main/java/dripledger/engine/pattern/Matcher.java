package dripledger.engine.pattern;

import java.util.Arrays;

/**
 * Finds the match that begins at a row: of all ways to match the pattern the one that it prefers,
 * as the SQL standard orders them. All ways are followed side by side, row by row; those that are
 * at the same place are one, if nothing depends on how they came there. One thread.
 */
public final class Matcher {
  /** Where a match may end if it may end anywhere. */
  public static final int ANYWHERE = -1;

  /** What conditions are asked of rows. */
  public interface Conditions {
    /**
     * Whether the last row of a match may be of the variable it is matched to.
     *
     * @param match with that row
     */
    boolean meets(Binding match);
  }

  /** What has been found. */
  public enum Outcome {
    /** A match; {@link Matcher#match} is it. */
    MATCHED,
    /** No match begins there. */
    NONE,
    /** Rows that are still to come decide it. */
    OPEN,
    /** There were too many ways. */
    TOO_MANY
  }

  private final Automaton automaton;
  private final boolean merges;
  private final int most;
  private int[] places = new int[16];
  private Binding[] bindings = new Binding[16];
  private int count;
  private int[] nextPlaces = new int[16];
  private Binding[] nextBindings = new Binding[16];
  private int nextCount;
  private final int[] seen; // the last step in which a place was reached
  private final int[] stack;
  private int step;
  private boolean matched;
  private Binding match;
  private int ways;
  private int mustEnd = ANYWHERE;
  private int start;

  /**
   * @param merges whether conditions depend on a row and its neighbours alone
   * @param most how many ways are followed at once
   */
  public Matcher(Automaton automaton, boolean merges, int most) {
    this.automaton = automaton;
    this.merges = merges;
    this.most = most;
    seen = new int[automaton.size()];
    stack = new int[2 * automaton.size() + 2];
  }

  /** The last row of the match, or null if it has none. */
  public Binding match() {
    return match;
  }

  /** How many ways were followed at once at most, since the last time this was asked. */
  public int ways() {
    int asked = ways;
    ways = 0;
    return asked;
  }

  /**
   * Looks for a match.
   *
   * @param start the position of its first row
   * @param limit that of the first row that is not known or cannot be in it
   * @param ended whether no row behind the limit will be in it
   * @param mustEnd the position behind its last row, or {@link #ANYWHERE}
   */
  public Outcome find(int start, int limit, boolean ended, int mustEnd, Conditions conditions) {
    this.start = start;
    this.mustEnd = mustEnd;
    count = 0;
    match = null;
    matched = false;
    step++;
    boolean cut = !reach(0, null);
    swap();
    for (int at = start; count > 0; at++) {
      if (at == limit) {
        if (!ended) {
          return Outcome.OPEN;
        }
        break;
      }
      step++;
      cut = false;
      for (int i = 0; i < count && !cut; i++) {
        boolean excluded = automaton.kind(places[i]) == Automaton.EXCLUDED_ROW;
        Binding with = Binding.of(bindings[i], automaton.first(places[i]), at, excluded);
        if (conditions.meets(with)) {
          cut = !reach(places[i] + 1, with);
        }
      }
      if (nextCount > most) {
        return Outcome.TOO_MANY;
      }
      swap();
    }
    return matched ? Outcome.MATCHED : Outcome.NONE;
  }

  private void swap() {
    int[] oldPlaces = places;
    Binding[] oldBindings = bindings;
    places = nextPlaces;
    bindings = nextBindings;
    count = nextCount;
    ways = Math.max(ways, count);
    nextPlaces = oldPlaces;
    nextBindings = oldBindings;
    nextCount = 0;
  }

  /**
   * Adds the rows that may come next, the preferred first.
   *
   * @return false if the match is complete here: what is preferred less is not followed
   */
  private boolean reach(int place, Binding binding) {
    if (!merges) {
      step++; // each way has places of its own
    }
    int depth = 0;
    stack[depth++] = place;
    while (depth > 0) {
      int at = stack[--depth];
      if (seen[at] == step) {
        continue;
      }
      seen[at] = step;
      switch (automaton.kind(at)) {
        case Automaton.MATCH -> {
          int end = binding == null ? start : binding.position() + 1;
          if (mustEnd == ANYWHERE || mustEnd == end) {
            matched = true;
            match = binding;
            return false;
          }
        }
        case Automaton.SPLIT -> {
          if (automaton.second(at) != automaton.first(at)) {
            stack[depth++] = automaton.second(at);
          }
          stack[depth++] = automaton.first(at);
        }
        case Automaton.AGAIN -> {
          int split = automaton.first(at);
          stack[depth++] = seen[split] == step ? automaton.second(at) : split;
        }
        default -> add(at, binding);
      }
    }
    return true;
  }

  private void add(int place, Binding binding) {
    if (nextCount == nextPlaces.length) {
      nextPlaces = Arrays.copyOf(nextPlaces, 2 * nextCount);
      nextBindings = Arrays.copyOf(nextBindings, 2 * nextCount);
    }
    nextPlaces[nextCount] = place;
    nextBindings[nextCount++] = binding;
  }
}
