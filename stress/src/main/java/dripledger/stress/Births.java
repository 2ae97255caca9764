package dripledger.stress;

import static org.openjdk.jcstress.annotations.Expect.ACCEPTABLE;
import static org.openjdk.jcstress.annotations.Expect.FORBIDDEN;

import org.openjdk.jcstress.annotations.Actor;
import org.openjdk.jcstress.annotations.Description;
import org.openjdk.jcstress.annotations.JCStressTest;
import org.openjdk.jcstress.annotations.Outcome;
import org.openjdk.jcstress.annotations.State;
import org.openjdk.jcstress.infra.results.ZJ_Result;

/** Rule 4: a slot is seen with its block, in the versions that have the key and in no other. */
@JCStressTest
@Description("a key is there from its version on")
@Outcome(id = "false, -2", expect = ACCEPTABLE, desc = "before")
@Outcome(id = "false, -1", expect = ACCEPTABLE, desc = "before, and refused")
@Outcome(id = "true, 100", expect = ACCEPTABLE, desc = "there")
@Outcome(id = "true, -1", expect = ACCEPTABLE, desc = "there, and refused")
@Outcome(expect = FORBIDDEN, desc = "too early, too late or in part")
@State
public class Births extends Account {
  private static final long OTHER = 9;
  private final long before = versions.published();

  /** A birth, among others that make the table grow. */
  @Actor
  public void writer() {
    open(OTHER, 40);
    for (long key = 100; key < 112; key++) {
      open(key, key % TOTAL);
    }
    versions.publish();
    move();
    versions.publish();
  }

  /** Looks for the key at whatever version is the newest. */
  @Actor
  public void reader(ZJ_Result r) {
    long version = versions.published();
    r.r1 = version > before;
    r.r2 = total(OTHER, version);
  }
}
