package dripledger.engine.upkeep;

import java.time.LocalDateTime;
import java.util.List;
import java.util.function.Consumer;

/** What upkeep did and how fresh views were, as it is kept. Thread-safe; may block. */
public interface UpkeepHistory {
  /**
   * A refresh of a view.
   *
   * @param began in UTC
   * @param cause why it was made
   * @param failure why it was not, or null
   */
  record Run(
      long viewId,
      LocalDateTime began,
      String cause,
      long epoch,
      long read,
      long added,
      long removed,
      long unchanged,
      long late,
      long rejected,
      long micros,
      String failure) {}

  /**
   * How fresh a view was in a minute.
   *
   * @param at its beginning, in UTC
   * @param shown how often something new was shown
   * @param inTime how often that was within what the owner wants; all if nothing is wanted
   * @param arrivalMicros the time from arrival to being shown, of the oldest of each, added up
   * @param eventMicros the same of event times, of the newest of each; of those that had one
   * @param worstEventMicros −1 if none had one
   */
  record Minute(
      long viewId,
      LocalDateTime at,
      long shown,
      long inTime,
      long arrivalMicros,
      long worstArrivalMicros,
      long events,
      long eventMicros,
      long worstEventMicros) {}

  /** Keeps more; minutes are over, but one may be there in part, of a process before this one. */
  void add(List<Run> runs, List<Minute> minutes);

  /** Gives all runs, oldest first. */
  void runs(Consumer<Run> sink);

  /** Gives all minutes, oldest first. */
  void minutes(Consumer<Minute> sink);
}
