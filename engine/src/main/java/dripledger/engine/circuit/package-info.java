/**
 * Operators over deltas: the incremental heart.
 *
 * <p>A relation is the sum of its deltas, so an operator Q must answer, for an input R and a delta
 * dR, the delta dQ = Q(R + dR) − Q(R), holding just the state it needs to do so. The rules here:
 *
 * <pre>
 * filter and projection   d(f R)   = f(dR)                       no state
 * UNION ALL               d(R + S) = dR + dS                     no state
 * GROUP BY                for each group g touched by dR:
 *                         −old(g) + new(g)                       one entry a group
 * </pre>
 *
 * <p>A {@link dripledger.engine.circuit.Circuit} is built from a plan and stepped by one thread:
 * rows are pushed in pages, stateless operators pass theirs on at once, stateful ones gather until
 * {@link dripledger.engine.circuit.Operator#flush}, which is called from the inputs to the root
 * once an epoch. The same circuit answers an ad-hoc SELECT (fed one snapshot) and keeps a view (fed
 * every epoch). Read {@link dripledger.engine.circuit.GroupAggregate} for how a stateful operator
 * is made.
 */
package dripledger.engine.circuit;
