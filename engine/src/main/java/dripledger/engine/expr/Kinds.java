package dripledger.engine.expr;

import dripledger.engine.row.ColumnType.Kind;
import java.lang.annotation.ElementType;
import java.lang.annotation.Retention;
import java.lang.annotation.RetentionPolicy;
import java.lang.annotation.Target;

/**
 * Of which kinds the arguments and the answer of a function are, where its Java types do not say
 * so.
 */
@Retention(RetentionPolicy.RUNTIME)
@Target(ElementType.METHOD)
public @interface Kinds {
  /** Of the arguments, all of them. */
  Kind[] value();

  /** Of the answer. */
  Kind result();
}
