package dripledger.engine.circuit;

import dripledger.engine.pattern.AfterMatch;
import dripledger.engine.pattern.Automaton;
import dripledger.engine.pattern.Binding;
import dripledger.engine.pattern.Matcher;
import dripledger.engine.plan.Matches;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.row.Schema;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/** Looks for matches among the rows of a partition, and puts them out. One thread. */
final class PatternSearch {
  static final int MOST_WAYS = 10_000;

  private final Matches plan;
  private final OrderedRows rows;
  private final Matcher matcher;
  private final PatternRows values;
  private final PatternRows.Computed[] conditions; // null if any row is of a variable
  private final PatternRows.Computed output;
  private final int time;
  private final RowWriter none = new RowWriter(new RowLayout(new Schema(List.of())), 64);
  private int[] blocks = new int[64]; // of the partition that is shown
  private int size;
  private boolean matched;
  private final List<Failure> failures = new ArrayList<>();

  /** A row that something could not be computed of. */
  record Failure(byte[] row, RuntimeException cause) {}

  PatternSearch(Matches plan, OrderedRows rows) {
    this.plan = plan;
    this.rows = rows;
    matcher = new Matcher(Automaton.of(plan.pattern()), plan.judgesRowsAlone(), MOST_WAYS);
    values = new PatternRows(rows, plan.variables());
    conditions = new PatternRows.Computed[plan.variables().size()];
    for (int i = 0; i < conditions.length; i++) {
      Matches.Made condition = plan.variables().get(i).condition();
      conditions[i] = condition == null ? null : values.of(condition);
    }
    output = values.of(plan.output());
    time = plan.order().get(0).column();
  }

  /** How many rows are looked at. */
  int size() {
    return size;
  }

  /** The row at a position. */
  int block(int position) {
    return blocks[position];
  }

  /** Whether the last look has found a match. */
  boolean hasMatched() {
    return matched;
  }

  /** What could not be computed in the last look. */
  List<Failure> failures() {
    return failures;
  }

  /** Leaves rows out of a later time. */
  void endAt(long last) {
    if (size > 0 && isLater(size - 1, last)) {
      size = firstLater(0, last);
      values.show(blocks, size);
    }
  }

  /** Whether a row after some time would be too late for a match that begins at a position. */
  boolean isOver(int start, long known) {
    return plan.withinMicros() >= 0
        && known >= rows.slot(blocks[start], time) + plan.withinMicros();
  }

  /** Shows the rows of a partition: positions are those in it. */
  void show(int partition) {
    long run = rows.run(partition);
    size = run == 0 ? 0 : rows.runs.size(run);
    if (blocks.length < size) {
      blocks = new int[Math.max(size, 2 * blocks.length)];
    }
    for (int from = 0; from < size; ) {
      from += rows.runs.read(run, from, blocks, from, size - from);
    }
    values.show(blocks, size);
  }

  /** The first position that is too late for a match that begins at one. */
  int limit(int start) {
    if (plan.withinMicros() < 0 || rows.isNull(blocks[start], time)) {
      return size;
    }
    long last = rows.slot(blocks[start], time) + plan.withinMicros();
    if (!isLater(size - 1, last)) {
      return size;
    }
    return firstLater(start, last);
  }

  private int firstLater(int from, long last) {
    int low = from;
    int high = size - 1;
    while (low < high) {
      int middle = (low + high) >>> 1;
      if (isLater(middle, last)) {
        high = middle;
      } else {
        low = middle + 1;
      }
    }
    return low;
  }

  private boolean isLater(int position, long than) {
    return rows.isNull(blocks[position], time) || rows.slot(blocks[position], time) > than;
  }

  /**
   * Looks for a match that begins at a position, and puts it out.
   *
   * @param limit see {@link #limit}
   * @param ended whether no row at the limit or behind it will be in the match
   * @param number what it is among the matches of its partition
   * @return where the next may begin, or −1 if rows to come decide
   */
  int look(int start, int limit, boolean ended, long number, Page into) {
    failures.clear();
    matched = false;
    if (plan.anchors().start() && start > 0) {
      return size;
    }
    values.number(number);
    Matcher.Outcome outcome =
        matcher.find(
            start, limit, ended, plan.anchors().end() ? size : Matcher.ANYWHERE, this::meets);
    if (outcome == Matcher.Outcome.OPEN) {
      return -1;
    }
    if (outcome == Matcher.Outcome.TOO_MANY) {
      fail(start, new IllegalStateException("a match has more than " + MOST_WAYS + " ways to go"));
      return start + 1;
    }
    Binding match = matcher.match();
    int end = match == null ? start : match.position() + 1;
    if (outcome == Matcher.Outcome.NONE) {
      return start + 1;
    }
    matched = true;
    put(match, start, into);
    return match == null ? start + 1 : behind(match, start, end);
  }

  private boolean meets(Binding with) {
    PatternRows.Computed condition = conditions[with.variable()];
    if (condition == null) {
      return true;
    }
    none.truncate(0);
    none.begin();
    try {
      return condition.run(with, with, with.position(), none);
    } catch (RuntimeException e) {
      fail(with.position(), e);
      return false;
    }
  }

  private void fail(int position, RuntimeException cause) {
    int start = rows.row(blocks[position]);
    int length = rows.layout.length(rows.rowBytes(), start);
    byte[] row = Arrays.copyOfRange(rows.rowBytes(), start, start + length);
    failures.add(new Failure(row, cause));
  }

  private int behind(Binding match, int start, int end) {
    AfterMatch after = plan.after();
    switch (after.place()) {
      case PAST_LAST_ROW -> {
        return end;
      }
      case NEXT_ROW -> {
        return start + 1;
      }
      default -> {
        int found = -1;
        boolean last = after.place() == AfterMatch.Place.LAST_OF;
        for (Binding each = match; each != null; each = each.before()) {
          if (after.of().contains(each.variable()) && !(last && found >= 0)) {
            found = each.position();
          }
        }
        if (found <= start) {
          String why = found < 0 ? "has no row in the match" : "is its first row";
          fail(start, new IllegalStateException("the row that AFTER MATCH SKIP names " + why));
          return start + 1;
        }
        return found;
      }
    }
  }

  private void put(Binding match, int start, Page into) {
    if (!plan.allRows() || match == null) {
      put(match, match, start, into);
      return;
    }
    Binding[] all = new Binding[match.count()];
    for (Binding each = match; each != null; each = each.before()) {
      all[each.count() - 1] = each;
    }
    for (Binding each : all) {
      if (!each.excluded()) {
        put(each, match, each.position(), into);
      }
    }
  }

  private void put(Binding running, Binding match, int own, Page into) {
    RowWriter writer = into.begin();
    try {
      output.run(running, match, own, writer);
      into.commit(1);
    } catch (RuntimeException e) {
      into.abort();
      fail(own, e);
    }
  }
}
