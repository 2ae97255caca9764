/**
 * Text to checked statement to plan. {@link dripledger.engine.sql.SqlFrontEnd} is the only way in
 * and {@link dripledger.engine.sql.Command} what comes out. The SQL library parses, validates and
 * turns queries into algebra; {@link dripledger.engine.sql.PlanBuilder} turns that into our plan
 * and refuses by name, with its place, what the circuit cannot yet do. {@link
 * dripledger.engine.sql.Dialect} holds everything that makes the language ours: types, functions,
 * leniency.
 */
package dripledger.engine.sql;
