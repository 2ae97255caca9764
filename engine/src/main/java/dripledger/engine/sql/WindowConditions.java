package dripledger.engine.sql;

import java.util.ArrayList;
import java.util.List;
import org.apache.calcite.plan.RelOptUtil;
import org.apache.calcite.rel.core.Filter;
import org.apache.calcite.rel.core.Project;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rex.RexBuilder;
import org.apache.calcite.rex.RexCall;
import org.apache.calcite.rex.RexInputRef;
import org.apache.calcite.rex.RexNode;
import org.apache.calcite.rex.RexOver;
import org.apache.calcite.rex.RexShuttle;
import org.apache.calcite.rex.RexUtil;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.util.ImmutableBitSet;

/**
 * What a condition asks of window functions, part by part. QUALIFY makes a column of its condition;
 * here it is taken apart, with columns for the functions it is about. Single use.
 */
final class WindowConditions {
  private final List<RexNode> projects;
  private final List<RexNode> parts = new ArrayList<>();
  private Project project;

  /**
   * @param filter over a projection with window functions
   * @param above what reads it, or null
   */
  WindowConditions(RexBuilder rex, Filter filter, Project above) {
    project = (Project) filter.getInput();
    projects = new ArrayList<>(project.getProjects());
    int columns = projects.size();
    List<Integer> apart = new ArrayList<>();
    for (RexNode part : conjunctions(rex, filter.getCondition())) {
      if (above != null
          && part instanceof RexInputRef ref
          && project.getProjects().get(ref.getIndex()) instanceof RexCall call
          && !(call instanceof RexOver)
          && RexOver.containsOver(call)) {
        int before = projects.size();
        List<RexNode> asked = conjunctions(rex, ofColumns(rex, call));
        if (asked.stream().anyMatch(each -> WindowPlans.choice(each, projects) != null)) {
          parts.addAll(asked);
          apart.add(ref.getIndex());
          continue;
        }
        projects.subList(before, projects.size()).clear(); // no ranking: it is as good as it is
      }
      parts.add(part);
    }
    if (apart.isEmpty()) {
      return;
    }
    List<RexNode> readers = new ArrayList<>(above.getProjects());
    readers.addAll(parts);
    ImmutableBitSet read = RelOptUtil.InputFinder.bits(readers, null);
    for (int column : apart) {
      if (!read.get(column)) {
        RelDataType type = projects.get(column).getType();
        projects.set(column, type.isNullable() ? rex.makeNullLiteral(type) : rex.makeLiteral(true));
      }
    }
    RelDataTypeFactory.Builder type = rex.getTypeFactory().builder();
    type.addAll(project.getRowType().getFieldList());
    for (int i = columns; i < projects.size(); i++) {
      type.add("$" + i, projects.get(i).getType());
    }
    project =
        project.copy(
            project.getTraitSet(), project.getInput(), List.copyOf(projects), type.build());
  }

  private static List<RexNode> conjunctions(RexBuilder rex, RexNode condition) {
    return RelOptUtil.conjunctions(RexUtil.expandSearch(rex, null, condition));
  }

  /** The projection, its columns where they were and perhaps more. */
  Project project() {
    return project;
  }

  /** What must hold, all of it, of the projection's columns. */
  List<RexNode> parts() {
    return parts;
  }

  /** An aggregate of a frame may be NULL, whatever the library says. */
  private static RexNode nullable(RexBuilder rex, RexOver over) {
    boolean never = over.getAggOperator().getKind() == SqlKind.COUNT || WindowPlans.isRanking(over);
    RelDataType type = rex.getTypeFactory().createTypeWithNullability(over.getType(), true);
    return never ? over : rex.makeAbstractCast(type, over, false);
  }

  private RexNode ofColumns(RexBuilder rex, RexNode condition) {
    return condition.accept(
        new RexShuttle() {
          @Override
          public RexNode visitOver(RexOver over) {
            return column(nullable(rex, over));
          }

          @Override
          public RexNode visitInputRef(RexInputRef ref) {
            return column(ref);
          }
        });
  }

  private RexNode column(RexNode node) {
    int at = projects.indexOf(node);
    if (at < 0) {
      at = projects.size();
      projects.add(node);
    }
    return new RexInputRef(at, node.getType());
  }
}
