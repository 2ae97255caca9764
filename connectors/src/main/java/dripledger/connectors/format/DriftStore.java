package dripledger.connectors.format;

import dripledger.engine.source.Drift;
import java.util.List;

/** Where drift outlives the process. Safe from any thread; may block. */
public interface DriftStore {
  /** What was saved of an object. */
  List<Drift> load(long objectId);

  /** Keeps this in the place of what was saved of the object. */
  void save(long objectId, List<Drift> drift);

  /** Keeps nothing. */
  DriftStore NONE =
      new DriftStore() {
        @Override
        public List<Drift> load(long objectId) {
          return List.of();
        }

        @Override
        public void save(long objectId, List<Drift> drift) {}
      };
}
