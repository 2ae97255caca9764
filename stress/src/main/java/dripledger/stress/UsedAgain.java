package dripledger.stress;

import static org.openjdk.jcstress.annotations.Expect.ACCEPTABLE;
import static org.openjdk.jcstress.annotations.Expect.FORBIDDEN;

import org.openjdk.jcstress.annotations.Actor;
import org.openjdk.jcstress.annotations.Description;
import org.openjdk.jcstress.annotations.JCStressTest;
import org.openjdk.jcstress.annotations.Outcome;
import org.openjdk.jcstress.annotations.State;
import org.openjdk.jcstress.infra.results.ZJ_Result;

/** Rules 6 to 8: a block whose key went is used for another, and nobody takes one for the other. */
@JCStressTest
@Description("a block that is used again is not the key it was")
@Outcome(id = "false, 100", expect = ACCEPTABLE, desc = "still there")
@Outcome(id = "false, -1", expect = ACCEPTABLE, desc = "was there, and refused")
@Outcome(id = "true, -2", expect = ACCEPTABLE, desc = "gone")
@Outcome(id = "true, -1", expect = ACCEPTABLE, desc = "gone, and refused")
@Outcome(expect = FORBIDDEN, desc = "another key's words, or a key that is gone")
@State
public class UsedAgain extends Account {
  private static final long OTHER = 9;
  private final long before = versions.published();

  /** A death, and a birth in the same block. */
  @Actor
  public void writer() {
    close();
    versions.publish();
    open(OTHER, 1); // its block is free by now, if nobody is pinned
    versions.publish();
    move(OTHER);
    versions.publish();
  }

  private void move(long key) {
    long[] words = {key};
    int block = store.find(store.hashOf(words, 0), words, 0);
    store.change(block);
    store.page(block)[store.state(block)] += 5;
  }

  /** Looks for the key that goes. */
  @Actor
  public void reader(ZJ_Result r) {
    long version = versions.published();
    r.r1 = version > before;
    r.r2 = total(KEY, version);
  }
}
