/**
 * Scalar expressions and aggregate functions, and the code that is generated from them.
 *
 * <p>A {@link dripledger.engine.expr.Program} (a filter and a projection of {@link
 * dripledger.engine.expr.Expr}) is data; {@link dripledger.engine.expr.ProgramCompiler} turns it
 * into a {@link dripledger.engine.expr.RowProgram} that reads binary rows. The Java is written by
 * one class a family ({@code ConditionCode}, {@code ArithmeticCode}, {@code TimeCode}, {@code
 * TextCode}, {@code JsonCode}, {@code FunctionCode}, {@code ConversionCode}); what it calls is in
 * {@code TextBuiltins}, {@code NumberBuiltins}, {@code TimeBuiltins} and {@code Casts}. {@link
 * dripledger.engine.expr.Accumulator}s are the aggregate functions. What an expression means is
 * PostgreSQL's answer, and FunctionOracleTest holds it to that. The SQL library is not known here,
 * but for its evaluator of JSON paths.
 */
package dripledger.engine.expr;
