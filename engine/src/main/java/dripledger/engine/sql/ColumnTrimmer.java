package dripledger.engine.sql;

import java.util.List;
import java.util.Set;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.sql2rel.RelFieldTrimmer;
import org.apache.calcite.tools.RelBuilder;
import org.apache.calcite.util.ImmutableBitSet;

/**
 * Leaves columns out that nobody reads, of arrays that are taken apart too. Public because the SQL
 * library finds the method by reflection. Single use.
 */
public final class ColumnTrimmer extends RelFieldTrimmer {
  ColumnTrimmer(RelBuilder builder) {
    super(null, builder);
  }

  /** The columns kept that are read, and the elements. */
  public TrimResult trimFields(
      Unnested rel, ImmutableBitSet fieldsUsed, Set<RelDataTypeField> extraFields) {
    ImmutableBitSet kept = fieldsUsed.intersect(ImmutableBitSet.range(rel.kept()));
    ImmutableBitSet arrays =
        ImmutableBitSet.range(rel.kept(), rel.getInput().getRowType().getFieldCount());
    TrimResult below = trimChild(rel, rel.getInput(), kept.union(arrays), extraFields);
    return result(rel.trimmed(below.left, kept, below.right), rel.mapping(kept));
  }

  /** The columns that are read, and what sessions are made by. */
  public TrimResult trimFields(
      SessionWindowed rel, ImmutableBitSet fieldsUsed, Set<RelDataTypeField> extraFields) {
    TrimResult below = trimChild(rel, rel.getInput(), rel.needed(fieldsUsed), extraFields);
    return result(rel.trimmed(below.left, below.right), rel.mapping(below.right));
  }

  /** The columns that are read, and what is asked of the current time. */
  public TrimResult trimFields(
      TimeReached rel, ImmutableBitSet fieldsUsed, Set<RelDataTypeField> extraFields) {
    TrimResult below = trimChild(rel, rel.getInput(), rel.needed(fieldsUsed), extraFields);
    return result(rel.copy(rel.getTraitSet(), List.of(below.left)), below.right);
  }

  /** The columns of the left that are read, and by what the nearest row is found. */
  public TrimResult trimFields(
      NearestRow rel, ImmutableBitSet fieldsUsed, Set<RelDataTypeField> extraFields) {
    TrimResult below = trimChild(rel, rel.getLeft(), rel.needed(fieldsUsed), extraFields);
    return result(rel.trimmed(below.left, below.right), rel.mapping(below.right));
  }

  /** The columns that are read, the time and those of the window. */
  public TrimResult trimFields(
      TimeWindowed rel, ImmutableBitSet fieldsUsed, Set<RelDataTypeField> extraFields) {
    TrimResult below = trimChild(rel, rel.getInput(), rel.needed(fieldsUsed), extraFields);
    return result(rel.trimmed(below.left, below.right), rel.mapping(below.right));
  }
}
