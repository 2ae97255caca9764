/**
 * The façade of the engine. Start at {@link dripledger.engine.Engine}: it runs statements, takes in
 * events, answers look-ups and follows queries. What it stands on is given to it: {@link
 * dripledger.engine.Records} for everything durable and {@link dripledger.engine.source.Connectors}
 * for outside systems.
 *
 * <p>The rooms, in the order a row travels and what is asked of it:
 *
 * <ul>
 *   <li>{@code source}: what is known of outside systems, and the ledger; {@code intake}: feeds at
 *       work
 *   <li>{@code epoch}: the loop that is the clock and the only writer
 *   <li>{@code circuit}: the graph, its nodes and operators; {@code time}: watermarks
 *   <li>{@code store} and {@code state}: relations and operator state as they are kept; {@code
 *       view}: relations as they are read
 *   <li>{@code checkpoint} and {@code recovery}: how all of it outlives the process
 *   <li>{@code sql}: text to plan; {@code plan}: plans as data; {@code expr}: expressions and the
 *       code made of them; {@code row}: schemas and binary rows; {@code catalog}: definitions
 *   <li>{@code query}: asking once and following; {@code change}: INSERT, UPDATE, DELETE and
 *       replay; {@code definition}: CREATE, ALTER and DROP; {@code introspection}: SHOW, DESCRIBE,
 *       EXPLAIN
 *   <li>{@code error}: what is said to the user when something cannot be done
 * </ul>
 *
 * <p>No room depends on one that depends on it, this one included. Nothing here knows HTTP, JDBC or
 * a broker.
 */
package dripledger.engine;
