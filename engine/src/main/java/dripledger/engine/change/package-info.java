/**
 * Changes that statements and repairs make: transactions over tables, worked out against all
 * changes before them and made once, and the replay of rejects.
 */
package dripledger.engine.change;
