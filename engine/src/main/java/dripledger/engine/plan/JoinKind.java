package dripledger.engine.plan;

/** Which rows a join puts out. */
public enum JoinKind {
  /** Pairs. */
  INNER,
  /** Pairs, and left rows that meet none. */
  LEFT,
  /** Pairs, and right rows that meet none. */
  RIGHT,
  /** Pairs, and rows of either input that meet none. */
  FULL,
  /** Left rows that meet one. */
  SEMI,
  /** Left rows that meet none. */
  ANTI;

  /** Whether pairs are put out. */
  public boolean pairs() {
    return this != SEMI && this != ANTI;
  }

  /** Whether every row put out has one of the left input. */
  public boolean keepsLeft() {
    return this != RIGHT && this != FULL;
  }

  /** Whether every row put out has one of the right input. */
  public boolean keepsRight() {
    return this == INNER || this == RIGHT;
  }
}
