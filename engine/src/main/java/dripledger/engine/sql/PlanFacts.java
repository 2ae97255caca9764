package dripledger.engine.sql;

import java.util.List;
import org.apache.calcite.plan.RelOptCluster;
import org.apache.calcite.plan.RelOptPredicateList;
import org.apache.calcite.rel.RelNode;
import org.apache.calcite.rel.core.Intersect;
import org.apache.calcite.rel.core.Minus;
import org.apache.calcite.rel.core.Union;
import org.apache.calcite.rel.metadata.BuiltInMetadata;
import org.apache.calcite.rel.metadata.ChainedRelMetadataProvider;
import org.apache.calcite.rel.metadata.DefaultRelMetadataProvider;
import org.apache.calcite.rel.metadata.JaninoRelMetadataProvider;
import org.apache.calcite.rel.metadata.MetadataDef;
import org.apache.calcite.rel.metadata.MetadataHandler;
import org.apache.calcite.rel.metadata.ReflectiveRelMetadataProvider;
import org.apache.calcite.rel.metadata.RelMetadataQuery;
import org.apache.calcite.rel.metadata.RelMetadataQueryBase;

/**
 * What the SQL library takes for true of a relation while it shapes a query. From the conditions of
 * set operations it draws no conclusions: it would fail on queries inside of them. Stateless.
 */
final class PlanFacts {
  private static final JaninoRelMetadataProvider PROVIDER =
      JaninoRelMetadataProvider.of(
          ChainedRelMetadataProvider.of(
              List.of(
                  ReflectiveRelMetadataProvider.reflectiveSource(
                      new NoPredicates(), BuiltInMetadata.Predicates.Handler.class),
                  DefaultRelMetadataProvider.INSTANCE)));

  private PlanFacts() {}

  /** Makes it so for a cluster, used on the thread that calls. */
  static void use(RelOptCluster cluster) {
    cluster.setMetadataProvider(PROVIDER);
    RelMetadataQueryBase.THREAD_PROVIDERS.set(PROVIDER);
    cluster.invalidateMetadataQuery();
  }

  /**
   * No condition holds of a set operation, as far as is known. Called by what the library makes.
   */
  public static final class NoPredicates
      implements BuiltInMetadata.Predicates.Handler, MetadataHandler<BuiltInMetadata.Predicates> {
    @Override
    public MetadataDef<BuiltInMetadata.Predicates> getDef() {
      return BuiltInMetadata.Predicates.DEF;
    }

    @Override
    public RelOptPredicateList getPredicates(RelNode rel, RelMetadataQuery query) {
      return RelOptPredicateList.EMPTY;
    }

    /** As of every relation; the library looks for a method of each kind. */
    public RelOptPredicateList getPredicates(Intersect rel, RelMetadataQuery query) {
      return RelOptPredicateList.EMPTY;
    }

    /** As of every relation. */
    public RelOptPredicateList getPredicates(Union rel, RelMetadataQuery query) {
      return RelOptPredicateList.EMPTY;
    }

    /** As of every relation. */
    public RelOptPredicateList getPredicates(Minus rel, RelMetadataQuery query) {
      return RelOptPredicateList.EMPTY;
    }
  }
}
