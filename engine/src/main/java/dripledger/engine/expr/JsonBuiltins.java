package dripledger.engine.expr;

import org.apache.calcite.runtime.JsonFunctions;
import org.apache.calcite.sql.SqlJsonExistsErrorBehavior;
import org.apache.calcite.sql.SqlJsonQueryEmptyOrErrorBehavior;
import org.apache.calcite.sql.SqlJsonQueryWrapperBehavior;
import org.apache.calcite.sql.SqlJsonValueEmptyOrErrorBehavior;

/**
 * The standard's JSON functions over text, by way of the SQL library's own implementation. A path
 * without a mode is lax. Called by generated code; one instance a program, whose parse cache is
 * thread-safe.
 */
public final class JsonBuiltins {
  private final JsonFunctions.StatefulFunction functions = new JsonFunctions.StatefulFunction();

  private static String lax(String path) {
    return path.startsWith("lax ") || path.startsWith("strict ") ? path : "lax " + path;
  }

  /** The scalar as text, or null. */
  public String value(
      String json,
      String path,
      String onEmpty,
      String emptyDefault,
      String onError,
      String errorDefault) {
    Object found =
        functions.jsonValue(
            json,
            lax(path),
            SqlJsonValueEmptyOrErrorBehavior.valueOf(onEmpty),
            emptyDefault,
            SqlJsonValueEmptyOrErrorBehavior.valueOf(onError),
            errorDefault);
    return found == null ? null : found.toString();
  }

  /** The object or array as JSON text, or null. */
  public String query(String json, String path, String wrapper, String onEmpty, String onError) {
    Object found =
        functions.jsonQuery(
            json,
            lax(path),
            SqlJsonQueryWrapperBehavior.valueOf(wrapper),
            SqlJsonQueryEmptyOrErrorBehavior.valueOf(onEmpty),
            SqlJsonQueryEmptyOrErrorBehavior.valueOf(onError),
            false);
    return found == null ? null : found.toString();
  }

  /** Whether the path finds anything; null if it cannot be told. */
  public Boolean exists(String json, String path, String onError) {
    return functions.jsonExists(json, lax(path), SqlJsonExistsErrorBehavior.valueOf(onError));
  }
}
