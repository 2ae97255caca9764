package dripledger.stress;

import static org.openjdk.jcstress.annotations.Expect.ACCEPTABLE;
import static org.openjdk.jcstress.annotations.Expect.FORBIDDEN;

import dripledger.engine.store.Versions;
import org.openjdk.jcstress.annotations.Actor;
import org.openjdk.jcstress.annotations.Description;
import org.openjdk.jcstress.annotations.JCStressTest;
import org.openjdk.jcstress.annotations.Outcome;
import org.openjdk.jcstress.annotations.State;
import org.openjdk.jcstress.infra.results.ZJ_Result;

/** Rules 5 and 6: what is pinned is read the same twice, and never refused. */
@JCStressTest
@Description("a pinned version does not change")
@Outcome(id = "true, 100", expect = ACCEPTABLE, desc = "the same, and whole")
@Outcome(expect = FORBIDDEN, desc = "changed, in part or refused")
@State
public class PinnedReads extends Account {
  /** Changes in three versions, each of which would give back what no pin needs. */
  @Actor
  public void writer() {
    for (int i = 0; i < 3; i++) {
      move();
      versions.publish();
    }
  }

  /** Reads twice under one pin. */
  @Actor
  public void reader(ZJ_Result r) {
    try (Versions.Pin pin = versions.pin()) {
      long first = first(pin.version());
      r.r2 = total(KEY, pin.version());
      r.r1 = first == first(pin.version());
    }
  }
}
