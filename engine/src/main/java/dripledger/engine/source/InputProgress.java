package dripledger.engine.source;

import dripledger.engine.catalog.SourcePosition;
import java.util.List;
import java.util.Map;

/**
 * What becomes true with changes, in the same step.
 *
 * @param positions how far inputs have been read, by number
 * @param rejects messages of the same range that were not taken, to be kept
 * @param replayed numbers of rejects that are done with: taken after all, or overtaken
 */
public record InputProgress(
    Map<Long, SourcePosition> positions, List<Reject> rejects, List<Long> replayed) {
  public static final InputProgress NOTHING = new InputProgress(Map.of(), List.of(), List.of());

  /** Positions and nothing else. */
  public static InputProgress at(Map<Long, SourcePosition> positions) {
    return new InputProgress(positions, List.of(), List.of());
  }
}
