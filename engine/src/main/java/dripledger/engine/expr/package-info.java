/**
 * Compiled scalar expressions and aggregate functions over binary rows.
 *
 * <p>{@link dripledger.engine.expr.ProgramCompiler} turns the SQL library's expression trees into
 * Java source, one class for a filter and a projection together, compiled in memory; the generated
 * code reads fields in place with primitive types, evaluates AND, OR and CASE lazily and calls
 * {@link dripledger.engine.expr.Builtins} and {@link dripledger.engine.expr.Casts} for the rest.
 * {@link dripledger.engine.expr.Accumulator} is what GROUP BY keeps for a call; every one of them
 * can take rows out as exactly as it put them in. Apart from {@code engine.sql} this is the only
 * place that may import the SQL library. What is not known here is refused by name, never guessed.
 */
package dripledger.engine.expr;
