package dripledger.engine.pattern;

import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;

/**
 * A pattern as instructions of a machine that is in several places at once, the preferred first
 * (after Thompson, "Regular expression search algorithm", 1968, and Pike's ordered threads).
 * Immutable; safe from any thread.
 */
public final class Automaton {
  /** The most instructions a pattern may have: what is to be there n times is there n times. */
  public static final int MOST = 20_000;

  static final int ROW = 0; // a row of a variable, then on
  static final int EXCLUDED_ROW = 1; // the same, not put out
  static final int SPLIT = 2; // two ways, the first preferred
  static final int MATCH = 3;
  static final int AGAIN = 4; // back to a split, or on if nothing has come since

  private int[] kinds = new int[16];
  private int[] first = new int[16]; // the variable of a row, or where to go on
  private int[] second = new int[16];
  private int size;
  private boolean excluding;

  private Automaton() {}

  /**
   * The automaton of a pattern.
   *
   * @throws IllegalArgumentException if it had more than {@link #MOST} instructions
   */
  public static Automaton of(RowPattern pattern) {
    Automaton made = new Automaton();
    made.add(pattern);
    made.instruction(MATCH, 0, 0);
    return made;
  }

  private int instruction(int kind, int one, int two) {
    if (size == MOST) {
      throw new IllegalArgumentException("the pattern is too large");
    }
    if (size == kinds.length) {
      kinds = Arrays.copyOf(kinds, 2 * size);
      first = Arrays.copyOf(first, 2 * size);
      second = Arrays.copyOf(second, 2 * size);
    }
    kinds[size] = kind;
    first[size] = one;
    second[size] = two;
    return size++;
  }

  private void add(RowPattern pattern) {
    if (pattern instanceof RowPattern.Variable v) {
      instruction(excluding ? EXCLUDED_ROW : ROW, v.number(), 0);
    } else if (pattern instanceof RowPattern.Sequence s) {
      s.parts().forEach(this::add);
    } else if (pattern instanceof RowPattern.Choice c) {
      addChoice(c.parts());
    } else if (pattern instanceof RowPattern.Excluded e) {
      boolean outer = excluding;
      excluding = true;
      add(e.part());
      excluding = outer;
    } else {
      addRepeat((RowPattern.Repeat) pattern);
    }
  }

  private void addChoice(List<RowPattern> parts) {
    List<Integer> ends = new ArrayList<>();
    for (int i = 0; i < parts.size(); i++) {
      if (i == parts.size() - 1) {
        add(parts.get(i));
        break;
      }
      int split = instruction(SPLIT, size + 1, 0);
      add(parts.get(i));
      ends.add(instruction(SPLIT, 0, 0));
      second[split] = size;
    }
    for (int end : ends) {
      first[end] = size;
      second[end] = size;
    }
  }

  private void addRepeat(RowPattern.Repeat r) {
    for (int i = 0; i < r.least(); i++) {
      add(r.part());
    }
    if (r.most() < 0) {
      int split = instruction(SPLIT, 0, 0);
      int body = size;
      add(r.part());
      int again = instruction(AGAIN, split, 0);
      second[again] = size;
      ways(split, body, size, r.reluctant());
      return;
    }
    List<Integer> splits = new ArrayList<>();
    for (int i = r.least(); i < r.most(); i++) {
      splits.add(instruction(SPLIT, 0, 0));
      add(r.part());
    }
    for (int split : splits) {
      ways(split, split + 1, size, r.reluctant());
    }
  }

  private void ways(int split, int body, int behind, boolean reluctant) {
    first[split] = reluctant ? behind : body;
    second[split] = reluctant ? body : behind;
  }

  int size() {
    return size;
  }

  int kind(int at) {
    return kinds[at];
  }

  /** The variable of a row, or the preferred of two ways. */
  int first(int at) {
    return first[at];
  }

  int second(int at) {
    return second[at];
  }
}
