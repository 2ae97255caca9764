/**
 * The façade of the engine. Start at {@link dripledger.engine.Engine}: it runs statements, takes in
 * events, answers look-ups and follows queries. What it stands on is given to it: {@link
 * dripledger.engine.Records} for everything durable and {@link dripledger.engine.source.Connectors}
 * for outside systems. {@code Definitions} carries out CREATE, ALTER and DROP, {@code Sources}
 * keeps feeds at work, {@code Recovery} brings all of it back. Below it, in the order a row
 * travels: {@code sql} (text to plan), {@code source} (what comes from outside), {@code circuit}
 * (deltas through operators, the epoch loop), {@code checkpoint}, {@code view} (published
 * versions), with {@code row}, {@code expr} and {@code state} underneath. Nothing here knows HTTP,
 * JDBC or a broker.
 */
package dripledger.engine;
