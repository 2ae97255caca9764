package dripledger.engine.sql;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Figures;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.BiFunction;
import org.apache.calcite.plan.RelOptTable;
import org.apache.calcite.rel.RelCollation;
import org.apache.calcite.rel.RelDistribution;
import org.apache.calcite.rel.RelDistributions;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.RelReferentialConstraint;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rel.type.StructKind;
import org.apache.calcite.schema.Schema;
import org.apache.calcite.schema.Statistic;
import org.apache.calcite.schema.Table;
import org.apache.calcite.schema.TemporalTable;
import org.apache.calcite.schema.TranslatableTable;
import org.apache.calcite.schema.impl.AbstractSchema;
import org.apache.calcite.schema.impl.AbstractTable;
import org.apache.calcite.util.ImmutableBitSet;

/**
 * Our catalog as the SQL library sees it, for one statement. Notes which objects the statement
 * names, so that what it defines can depend on them.
 */
final class CatalogSchema extends AbstractSchema {
  private final Catalog catalog; // or a part of one
  private final BiFunction<CatalogObject.View, RelOptTable.ToRelContext, RelNode> viewExpander;
  private final Set<Long> used;

  CatalogSchema(
      Catalog catalog,
      BiFunction<CatalogObject.View, RelOptTable.ToRelContext, RelNode> viewExpander,
      Set<Long> used) {
    this.catalog = catalog;
    this.viewExpander = viewExpander;
    this.used = used;
  }

  @Override
  protected Map<String, Table> getTableMap() {
    Map<String, Table> tables = new HashMap<>();
    for (CatalogObject object : catalog.all()) {
      if (object instanceof CatalogObject.Connection
          || object instanceof CatalogObject.Sink
          || object instanceof CatalogObject.Endpoint) {
        continue;
      }
      tables.put(
          object.name(),
          object instanceof CatalogObject.View view
              ? new PlainView(view)
              : object instanceof CatalogObject.Table
                  ? new WithHistory(object)
                  : new Relation(object));
    }
    return tables;
  }

  @Override
  protected Map<String, Schema> getSubSchemaMap() {
    return Map.of("drip", new FigureTables());
  }

  /** The schema {@code drip}: figures as tables. */
  private final class FigureTables extends AbstractSchema {
    @Override
    protected Map<String, Table> getTableMap() {
      Map<String, Table> tables = new HashMap<>();
      for (Figures figures : Figures.ALL) {
        if (catalog.isReadable(figures)) {
          tables.put(figures.name(), new Relation(figures));
        }
      }
      return tables;
    }
  }

  /** A table: what it was at a time can be asked for. */
  private final class WithHistory extends Relation implements TemporalTable {
    WithHistory(CatalogObject object) {
      super(object);
    }

    @Override
    public String getSysStartFieldName() {
      return "since";
    }

    @Override
    public String getSysEndFieldName() {
      return "until";
    }
  }

  /** A stream, table or materialized view. */
  class Relation extends AbstractTable {
    private final CatalogObject object;

    Relation(CatalogObject object) {
      this.object = object;
    }

    CatalogObject object() {
      return object;
    }

    /** Notes that it is read, as whoever names it may. */
    CatalogObject read() {
      use(object);
      return object;
    }

    @Override
    public RelDataType getRowType(RelDataTypeFactory factory) {
      return TypeMapping.rowType(factory, object.schema(), StructKind.FULLY_QUALIFIED);
    }

    @Override
    public Statistic getStatistic() {
      int[] key =
          object instanceof CatalogObject.Table t
              ? t.primaryKey()
              : object instanceof CatalogObject.MaterializedView m && m.keyProven()
                  ? m.key()
                  : null;
      return new Keys(key == null ? List.of() : List.of(ImmutableBitSet.of(key)));
    }
  }

  /** Notes that an object is read, if that is allowed. */
  void use(CatalogObject object) {
    if (!catalog.isReadable(object)) {
      throw new EngineException(
          Code.FORBIDDEN, "\"" + object.name() + "\" may not be read", "GRANT SELECT allows it");
    }
    used.add(object.id());
  }

  private final class PlainView extends AbstractTable implements TranslatableTable {
    private final CatalogObject.View view;

    PlainView(CatalogObject.View view) {
      this.view = view;
    }

    @Override
    public RelDataType getRowType(RelDataTypeFactory factory) {
      return TypeMapping.rowType(factory, view.schema(), StructKind.FULLY_QUALIFIED);
    }

    @Override
    public RelNode toRel(RelOptTable.ToRelContext context, RelOptTable table) {
      use(view);
      return viewExpander.apply(view, context);
    }
  }

  private record Keys(List<ImmutableBitSet> keys) implements Statistic {
    @Override
    public Double getRowCount() {
      return 1000d;
    }

    @Override
    public boolean isKey(ImmutableBitSet columns) {
      return keys.stream().anyMatch(columns::contains);
    }

    @Override
    public List<ImmutableBitSet> getKeys() {
      return new ArrayList<>(keys);
    }

    @Override
    public List<RelReferentialConstraint> getReferentialConstraints() {
      return List.of();
    }

    @Override
    public List<RelCollation> getCollations() {
      return List.of();
    }

    @Override
    public RelDistribution getDistribution() {
      return RelDistributions.ANY;
    }
  }
}
