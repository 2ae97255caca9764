package dripledger.bench;

import com.sun.management.GarbageCollectionNotificationInfo;
import java.lang.management.GarbageCollectorMXBean;
import java.lang.management.ManagementFactory;
import java.util.concurrent.atomic.AtomicLong;
import javax.management.ListenerNotFoundException;
import javax.management.NotificationEmitter;
import javax.management.NotificationListener;
import javax.management.openmbean.CompositeData;

/** Heap use after a collection, and the longest pause of the collector while something runs. */
final class Heap {
  private Heap() {}

  /** Bytes in use after collecting twice. */
  static long used() {
    System.gc();
    System.gc();
    return Runtime.getRuntime().totalMemory() - Runtime.getRuntime().freeMemory();
  }

  /** Counts pauses between {@link #Pauses()} and {@link #close}. */
  static final class Pauses implements AutoCloseable {
    private final AtomicLong longest = new AtomicLong();
    private final AtomicLong count = new AtomicLong();
    private final NotificationListener listener =
        (notification, handback) -> {
          GarbageCollectionNotificationInfo info =
              GarbageCollectionNotificationInfo.from((CompositeData) notification.getUserData());
          if (!info.getGcName().contains("Concurrent")) {
            count.incrementAndGet();
            longest.accumulateAndGet(info.getGcInfo().getDuration(), Math::max);
          }
        };

    Pauses() {
      for (GarbageCollectorMXBean bean : ManagementFactory.getGarbageCollectorMXBeans()) {
        ((NotificationEmitter) bean).addNotificationListener(listener, null, null);
      }
    }

    long longestMillis() {
      return longest.get();
    }

    long count() {
      return count.get();
    }

    @Override
    public void close() {
      for (GarbageCollectorMXBean bean : ManagementFactory.getGarbageCollectorMXBeans()) {
        try {
          ((NotificationEmitter) bean).removeNotificationListener(listener);
        } catch (ListenerNotFoundException e) {
          throw new IllegalStateException(e);
        }
      }
    }
  }
}
