package dripledger.engine.epoch;

import java.util.Collections;
import java.util.List;
import java.util.concurrent.CountDownLatch;
import java.util.concurrent.LinkedBlockingQueue;
import java.util.concurrent.atomic.AtomicInteger;

/**
 * Threads that step an epoch together. The thread that steps gives them tasks that have nothing to
 * do with each other, takes its share and waits for the rest, so that all they have written is seen
 * by it, and all it had written by them.
 */
final class Workers implements AutoCloseable {
  private static final Runnable END = () -> {};

  private final LinkedBlockingQueue<Runnable> helpers = new LinkedBlockingQueue<>();
  private final int count;
  private boolean started;

  /**
   * @param count with the thread that steps; at least 1
   */
  Workers(int count) {
    this.count = count;
  }

  /** How many step together. */
  int count() {
    return count;
  }

  /**
   * Runs tasks, which must not throw. The thread that steps only.
   *
   * @param tasks those that take longest first
   */
  void run(List<Runnable> tasks) {
    if (count == 1 || tasks.size() < 2) {
      tasks.forEach(Runnable::run);
      return;
    }
    start();
    AtomicInteger next = new AtomicInteger();
    CountDownLatch left = new CountDownLatch(tasks.size());
    Runnable share =
        () -> {
          for (int i = next.getAndIncrement(); i < tasks.size(); i = next.getAndIncrement()) {
            tasks.get(i).run();
            left.countDown();
          }
        };
    helpers.addAll(Collections.nCopies(Math.min(count, tasks.size()) - 1, share));
    share.run();
    await(left); // for tasks, not for helpers: one that comes late finds nothing to do
  }

  /** What is being written must not be left half done, whoever asks. */
  private static void await(CountDownLatch left) {
    boolean interrupted = false;
    while (true) {
      try {
        left.await();
        break;
      } catch (InterruptedException e) {
        interrupted = true;
      }
    }
    if (interrupted) {
      Thread.currentThread().interrupt();
    }
  }

  private void start() {
    if (started) {
      return;
    }
    started = true;
    for (int i = 1; i < count; i++) {
      Thread thread = new Thread(this::help, "epoch-worker-" + i);
      thread.setDaemon(true);
      thread.start();
    }
  }

  private void help() {
    try {
      for (Runnable task = helpers.take(); task != END; task = helpers.take()) {
        task.run();
      }
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt(); // nobody does that; the others go on
    }
  }

  @Override
  public void close() {
    for (int i = 1; i < count; i++) {
      helpers.add(END);
    }
  }
}
