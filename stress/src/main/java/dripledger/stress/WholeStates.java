package dripledger.stress;

import static org.openjdk.jcstress.annotations.Expect.ACCEPTABLE;
import static org.openjdk.jcstress.annotations.Expect.FORBIDDEN;

import org.openjdk.jcstress.annotations.Actor;
import org.openjdk.jcstress.annotations.Description;
import org.openjdk.jcstress.annotations.JCStressTest;
import org.openjdk.jcstress.annotations.Outcome;
import org.openjdk.jcstress.annotations.State;
import org.openjdk.jcstress.infra.results.J_Result;

/** Rules 1, 2 and 3: a block is read whole, from its home or from its undo record, or refused. */
@JCStressTest
@Description("a state is never seen half changed")
@Outcome(id = "100", expect = ACCEPTABLE, desc = "whole")
@Outcome(id = "-1", expect = ACCEPTABLE, desc = "refused: the floor has passed the version")
@Outcome(expect = FORBIDDEN, desc = "half of a change")
@State
public class WholeStates extends Account {
  /** Changes in three versions. */
  @Actor
  public void writer() {
    for (int i = 0; i < 3; i++) {
      move();
      versions.publish();
    }
  }

  /** Reads without a pin. */
  @Actor
  public void reader(J_Result r) {
    r.r1 = total(KEY, versions.published());
  }
}
