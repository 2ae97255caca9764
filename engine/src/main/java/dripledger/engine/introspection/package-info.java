/**
 * How the engine does, as rows: SHOW, DESCRIBE and EXPLAIN, and the tables of schema {@code drip}.
 */
package dripledger.engine.introspection;
