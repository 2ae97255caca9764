/** Patterns of rows: their form, the automaton made of it, and how it finds a match. */
package dripledger.engine.pattern;
