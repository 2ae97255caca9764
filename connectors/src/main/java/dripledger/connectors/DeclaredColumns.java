package dripledger.connectors;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import java.util.Arrays;
import java.util.List;
import java.util.Set;

/**
 * The columns of a table against those of the relation it follows, which says its own. Stateless.
 */
public final class DeclaredColumns {
  private DeclaredColumns() {}

  /**
   * The names of a table's key, which must be that of the relation.
   *
   * @param relation as the user knows it
   * @param key of the relation
   * @param why that is so, or null
   */
  public static List<String> key(
      CatalogObject.Table declared, String relation, List<String> key, String why) {
    List<String> own =
        Arrays.stream(declared.primaryKey())
            .mapToObj(k -> declared.schema().column(k).name())
            .toList();
    if (!Set.copyOf(own).equals(Set.copyOf(key))) {
      throw new EngineException(
          Code.INVALID,
          "the key of "
              + relation
              + " is ("
              + String.join(", ", key)
              + "), not ("
              + String.join(", ", own)
              + ")",
          why);
    }
    return own;
  }

  /**
   * The relation's column of a declared one's name.
   *
   * @throws EngineException (INVALID) if there is none
   */
  public static Column find(String relation, List<Column> columns, Column declared) {
    return columns.stream()
        .filter(c -> c.name().equals(declared.name()))
        .findFirst()
        .orElseThrow(
            () ->
                new EngineException(
                    Code.INVALID,
                    relation + " has no column \"" + declared.name() + "\"",
                    "it has " + String.join(", ", columns.stream().map(Column::name).toList())));
  }

  /** Refuses NOT NULL of what can be NULL. */
  public static void checkNull(Column there, Column declared, String where) {
    if (there.type().nullable() && !declared.type().nullable()) {
      throw new EngineException(
          Code.INVALID,
          "column \"" + declared.name() + "\" can be NULL " + where,
          "leave NOT NULL out");
    }
  }
}
