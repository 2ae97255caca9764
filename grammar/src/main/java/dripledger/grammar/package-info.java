/**
 * The grammar's own parse-tree nodes. The parser itself is generated into {@code
 * dripledger.grammar.parser} from the SQL library's template and {@code
 * src/main/codegen/includes/statements.ftl}; this is a module of its own so that it is regenerated
 * only when the grammar changes. Start with {@link dripledger.grammar.Statement}.
 */
package dripledger.grammar;
