/**
 * The façade of the engine. Start at {@link dripledger.engine.Engine}: it runs statements, takes in
 * events, answers look-ups and follows queries. What it stands on is given to it: a {@link
 * dripledger.engine.Ledger} for what was pushed and a {@link
 * dripledger.engine.catalog.DefinitionStore} for what was defined. Below it, in the order a row
 * travels: {@code sql} (text to plan), {@code circuit} (deltas through operators, the epoch loop),
 * {@code view} (published versions), with {@code row}, {@code expr} and {@code state} underneath.
 * Nothing here knows HTTP, JDBC or a broker.
 */
package dripledger.engine;
