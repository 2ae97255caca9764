package dripledger.engine.plan;

/** Something done with every kind of node there is; a new kind does not compile without it. */
public interface PlanVisitor<T> {
  T source(PlanNode.Source node);

  T values(PlanNode.Values node);

  T transform(PlanNode.Transform node);

  T aggregate(PlanNode.Aggregate node);

  T unionAll(PlanNode.UnionAll node);

  T join(PlanNode.Join node);

  T repeat(PlanNode.Repeat node);

  T unnest(PlanNode.Unnest node);

  T window(PlanNode.Window node);

  T matches(Matches node);

  T nearest(Nearest node);

  T timeWindows(TimeNode.TimeWindows node);

  T sessions(TimeNode.Sessions node);

  T settle(TimeNode.Settle node);

  T tableVersions(TableVersions node);

  T paced(Paced node);

  T reached(TimeNode.Reached node);
}
