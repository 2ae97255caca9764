package dripledger.engine.store;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.Collections;
import java.util.IdentityHashMap;
import java.util.Set;
import org.junit.jupiter.api.Test;

class UndoLogTest {
  private static final int RECORD = 4;
  private static final int PER_PAGE = (UndoLog.PAGE_LONGS - 1) / RECORD;

  private final UndoLog log = new UndoLog(RECORD);
  private final Set<long[]> made = Collections.newSetFromMap(new IdentityHashMap<>());
  private long version;

  /** A version that fills some pages. */
  private void change(int pages) {
    for (int i = 0; i < pages * PER_PAGE; i++) {
      log.append();
      made.add(log.openPageLongs());
    }
    log.close(++version);
  }

  /** Versions during which somebody reads what was before them, until he is done. */
  private void scan(int versions) {
    for (int i = 0; i < versions; i++) {
      change(2);
      log.trim(version - i - 1); // the floor stays
    }
    log.trim(version);
  }

  @Test
  void whatAScanHeldIsUsedAgainByTheNext() {
    change(2);
    log.trim(version);
    for (int scan = 0; scan < 10; scan++) {
      scan(20);
      for (int i = 0; i < 15; i++) {
        change(2);
        log.trim(version);
      }
    }
    assertThat(made.size()).as("pages made for ten scans that hold 40 each").isLessThan(50);
    assertThat(log.usedPages()).isZero();
  }

  @Test
  void pagesThatNobodyHoldsAnyMoreAreGivenBack() {
    scan(500);
    assertThat(log.heapBytes()).isGreaterThan(900L * UndoLog.PAGE_LONGS * 8);
    for (int i = 0; i < 20_000; i++) {
      change(1);
      log.trim(version);
    }
    assertThat(log.heapBytes()).isLessThan(20L * UndoLog.PAGE_LONGS * 8);
  }

  @Test
  void oneLargeVersionIsNotTakenForWhatReadersHold() {
    change(1000); // as a first filling
    log.trim(version);
    for (int i = 0; i < 200; i++) {
      change(1);
      log.trim(version);
    }
    assertThat(log.heapBytes()).isLessThan(50L * UndoLog.PAGE_LONGS * 8);
  }
}
