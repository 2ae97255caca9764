package dripledger.engine;

import dripledger.engine.pattern.RowPattern;
import java.util.ArrayList;
import java.util.List;
import java.util.function.Predicate;

/**
 * Finds the match of a pattern by trying every way, one after the other, the preferred first: slow,
 * and as the SQL standard puts it. Rows are numbers.
 */
final class ReferenceMatcher {
  /** A row of a match. */
  record Bound(int variable, int position, boolean excluded) {}

  /** What a variable's rows must meet. */
  interface Condition {
    boolean meets(int[] rows, List<Bound> match);
  }

  private final int[] rows;
  private final List<Condition> conditions;

  ReferenceMatcher(int[] rows, List<Condition> conditions) {
    this.rows = rows;
    this.conditions = conditions;
  }

  /** The match that begins at a row and ends before a limit; null if there is none. */
  List<Bound> find(RowPattern pattern, int start, int limit) {
    List<List<Bound>> found = new ArrayList<>();
    walk(
        pattern,
        start,
        limit,
        List.of(),
        false,
        match -> {
          found.add(match);
          return true;
        });
    return found.isEmpty() ? null : found.get(0);
  }

  /** Gives all ways to match to what follows, until that is content. */
  private boolean walk(
      RowPattern pattern,
      int start,
      int limit,
      List<Bound> before,
      boolean excluded,
      Predicate<List<Bound>> then) {
    if (pattern instanceof RowPattern.Variable v) {
      int at = start + before.size();
      if (at >= limit) {
        return false;
      }
      List<Bound> with = new ArrayList<>(before);
      with.add(new Bound(v.number(), at, excluded));
      return conditions.get(v.number()).meets(rows, with) && then.test(with);
    }
    if (pattern instanceof RowPattern.Excluded e) {
      return walk(e.part(), start, limit, before, true, then);
    }
    if (pattern instanceof RowPattern.Choice c) {
      return c.parts().stream().anyMatch(p -> walk(p, start, limit, before, excluded, then));
    }
    if (pattern instanceof RowPattern.Sequence s) {
      return sequence(s.parts(), start, limit, before, excluded, then);
    }
    RowPattern.Repeat r = (RowPattern.Repeat) pattern;
    return repeat(r, 0, start, limit, before, excluded, then);
  }

  private boolean sequence(
      List<RowPattern> parts,
      int start,
      int limit,
      List<Bound> before,
      boolean excluded,
      Predicate<List<Bound>> then) {
    if (parts.isEmpty()) {
      return then.test(before);
    }
    List<RowPattern> rest = parts.subList(1, parts.size());
    return walk(
        parts.get(0),
        start,
        limit,
        before,
        excluded,
        match -> sequence(rest, start, limit, match, excluded, then));
  }

  private boolean repeat(
      RowPattern.Repeat r,
      int done,
      int start,
      int limit,
      List<Bound> before,
      boolean excluded,
      Predicate<List<Bound>> then) {
    if (done < r.least()) {
      return walk(
          r.part(),
          start,
          limit,
          before,
          excluded,
          match -> repeat(r, done + 1, start, limit, match, excluded, then));
    }
    Predicate<List<Bound>> more =
        match ->
            (r.most() < 0 || done < r.most())
                && walk(
                    r.part(),
                    start,
                    limit,
                    match,
                    excluded,
                    // no row once more would be so for ever
                    m ->
                        r.most() < 0 && m.size() == match.size()
                            ? then.test(m)
                            : repeat(r, done + 1, start, limit, m, excluded, then));
    return r.reluctant()
        ? then.test(before) || more.test(before)
        : more.test(before) || then.test(before);
  }
}
