package dripledger.engine.access;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Figures;

/**
 * What something is granted on.
 *
 * @param schema {@code public}, or {@code drip} for the tables of figures
 * @param name null for all that the schema has and will have
 */
public record Target(String schema, String name) {
  /** Where everything is that is made. */
  public static final String PUBLIC = "public";

  /** Where the tables of figures are. */
  public static final String DRIP = "drip";

  static Target of(CatalogObject object) {
    return new Target(schema(object), object.name());
  }

  static Target schemaOf(CatalogObject object) {
    return new Target(schema(object), null);
  }

  private static String schema(CatalogObject object) {
    return object instanceof Figures ? DRIP : PUBLIC;
  }

  /** As it is written behind ON. */
  public String text() {
    return name == null ? "schema " + schema : schema.equals(DRIP) ? schema + "." + name : name;
  }
}
