/**
 * The graph and its operators over deltas: the incremental heart.
 *
 * <p>A relation is the sum of its deltas, so an operator Q must answer, for an input R and a delta
 * dR, the delta dQ = Q(R + dR) − Q(R), holding just the state it needs to do so. The rules here:
 *
 * <pre>
 * filter and projection   d(f R)   = f(dR)                       no state
 * UNION ALL               d(R + S) = dR + dS                     no state
 * GROUP BY                for each group g touched by dR:
 *                         −old(g) + new(g)                       one entry a group
 * join                    d(L ⋈ R) = dL ⋈ R + (L + dL) ⋈ dR      the rows of both
 * </pre>
 *
 * <p>The graph's nodes are {@link dripledger.engine.circuit.LiveNode}s: an {@link
 * dripledger.engine.circuit.InputNode} for each stream and table, and {@link
 * dripledger.engine.circuit.QueryNode}s for the steps that keep state, each once however many views
 * have it (see {@link dripledger.engine.plan.PlanCut}), for views and for followers. What a node
 * does between its inputs and its own relation is a {@link dripledger.engine.circuit.Circuit}:
 * operators built from a plan and stepped by one thread. Rows are pushed in pages, stateless
 * operators pass theirs on at once, stateful ones gather until {@link
 * dripledger.engine.circuit.Operator#flush}, which is called once an epoch, fed or not. The same
 * circuit answers an ad-hoc SELECT, fed one snapshot.
 *
 * <p>A relation is kept once and read where it is: as the groups of a {@link
 * dripledger.engine.circuit.GroupAggregate}, or as {@link dripledger.engine.circuit.KeptRows}; both
 * are {@link dripledger.engine.circuit.StoredRows}, read by {@link
 * dripledger.engine.circuit.StoredVersion}. Read GroupAggregate for how a stateful operator is
 * made.
 */
package dripledger.engine.circuit;
