/**
 * The rules of memory order of {@link dripledger.engine.store}, each raced by two threads millions
 * of times under a harness that reorders what the processor and the compiler may: {@code drip
 * stress}. Nothing else lives here.
 */
package dripledger.stress;
