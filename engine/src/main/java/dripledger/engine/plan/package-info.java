/**
 * Our own physical plan: immutable data, what a circuit is built from and what EXPLAIN prints. A
 * {@link dripledger.engine.plan.PlanNode} knows its columns, whether it ever takes rows out, and
 * which columns are proven to be a key. No SQL text and no state here.
 */
package dripledger.engine.plan;
