package dripledger.engine.introspection;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.EndpointParameter;
import dripledger.engine.query.Result;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import java.util.ArrayList;
import java.util.List;
import java.util.stream.Collectors;

/** What there is to be said of endpoints. Stateless. */
final class EndpointFigures {
  private EndpointFigures() {}

  static Result.Rows show(Catalog catalog, long epoch) {
    List<Object[]> rows = new ArrayList<>();
    for (CatalogObject object : catalog.all()) {
      if (object instanceof CatalogObject.Endpoint e) {
        rows.add(
            new Object[] {
              e.name(),
              e.parameters().stream()
                  .map(EndpointFigures::parameter)
                  .collect(Collectors.joining(", ")),
              e.schema().columns().stream().map(Column::name).collect(Collectors.joining(", ")),
              (long) e.maxRows(),
              e.pageRows() == 0 ? null : (long) e.pageRows(),
              e.description()
            });
      }
    }
    return new Result.Rows(
        List.of(
            text("name"),
            text("parameters"),
            text("columns"),
            new Column("max_rows", ColumnType.of(Kind.BIGINT)),
            new Column("page_rows", ColumnType.of(Kind.BIGINT)),
            text("description")),
        rows,
        epoch);
  }

  private static Column text(String name) {
    return new Column(name, ColumnType.varchar(-1));
  }

  /** A parameter as it was declared, without its comment. */
  static String parameter(EndpointParameter p) {
    return p.name()
        + " "
        + p.type().sql()
        + (p.optional() ? " OPTIONAL" : p.required() ? "" : " DEFAULT " + value(p.defaultValue()));
  }

  private static String value(Object value) {
    return value instanceof String s ? "'" + s + "'" : String.valueOf(value);
  }

  /** One row a parameter, then one a column. */
  static Result.Rows describe(CatalogObject.Endpoint e, long epoch) {
    List<Object[]> rows = new ArrayList<>();
    for (EndpointParameter p : e.parameters()) {
      String kind = p.optional() ? "optional" : p.required() ? "required" : "parameter";
      String more =
          (p.comment() == null ? "" : p.comment())
              + (p.check() == null ? "" : (p.comment() == null ? "" : "; ") + p.check());
      rows.add(
          new Object[] {
            p.name(),
            p.type().sql(),
            kind,
            p.defaultValue() == null ? null : value(p.defaultValue()),
            more.isEmpty() ? null : more
          });
    }
    for (Column column : e.schema().columns()) {
      rows.add(new Object[] {column.name(), column.type().toString(), "column", null, null});
    }
    return new Result.Rows(
        List.of(text("name"), text("type"), text("role"), text("default"), text("what")),
        rows,
        epoch,
        e.description());
  }
}
