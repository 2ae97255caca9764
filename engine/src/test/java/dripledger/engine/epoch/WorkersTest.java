package dripledger.engine.epoch;

import static org.assertj.core.api.Assertions.assertThat;

import java.util.ArrayList;
import java.util.Collections;
import java.util.List;
import java.util.Set;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.CyclicBarrier;
import java.util.concurrent.TimeUnit;
import java.util.concurrent.atomic.AtomicIntegerArray;
import org.junit.jupiter.api.Tag;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

@Tag("memory-order")
class WorkersTest {
  @ParameterizedTest
  @ValueSource(ints = {1, 2, 4})
  void everyTaskIsDoneOnceBeforeItReturns(int count) {
    try (Workers workers = new Workers(count)) {
      for (int round = 0; round < 200; round++) {
        int tasks = round % 9;
        AtomicIntegerArray done = new AtomicIntegerArray(9);
        List<Runnable> all = new ArrayList<>();
        for (int t = 0; t < tasks; t++) {
          int number = t;
          all.add(() -> done.incrementAndGet(number));
        }
        workers.run(all);
        for (int t = 0; t < 9; t++) {
          assertThat(done.get(t)).isEqualTo(t < tasks ? 1 : 0);
        }
      }
    }
  }

  @Test
  void theyWorkBesideEachOther() {
    CyclicBarrier allAtOnce = new CyclicBarrier(3);
    Set<Thread> threads = ConcurrentHashMap.newKeySet();
    Runnable waits =
        () -> {
          try {
            allAtOnce.await(60, TimeUnit.SECONDS);
          } catch (Exception e) {
            throw new IllegalStateException(e);
          }
          threads.add(Thread.currentThread());
        };
    try (Workers workers = new Workers(3)) {
      workers.run(Collections.nCopies(3, waits));
    }
    assertThat(threads).hasSize(3).contains(Thread.currentThread());
  }

  @Test
  void whoIsInterruptedWaitsForTheOthersAndStaysInterrupted() {
    try (Workers workers = new Workers(2)) {
      for (int round = 0; round < 50; round++) {
        AtomicIntegerArray done = new AtomicIntegerArray(1);
        Thread.currentThread().interrupt();
        workers.run(Collections.nCopies(20, () -> done.incrementAndGet(0)));
        assertThat(Thread.interrupted()).isTrue();
        assertThat(done.get(0)).isEqualTo(20);
      }
    }
  }
}
