package dripledger.engine.statement;

import dripledger.engine.access.Caller;
import dripledger.engine.access.Privilege;
import dripledger.engine.access.Target;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.plan.PlanNode;
import dripledger.engine.sql.Command;
import java.util.stream.Collectors;

/**
 * What each statement needs. That only what may be read is read is seen to by the catalog that it
 * is checked against, which has nothing else.
 */
final class Permissions {
  private Permissions() {}

  /**
   * Goes on if somebody may do what a statement says.
   *
   * @param whole catalog
   */
  static void check(Command command, Caller caller, Catalog whole) {
    if (caller.isOwner()
        || command instanceof Command.Query
        || command instanceof Command.Follow
        || command instanceof Command.Show
        || command instanceof Command.Describe
        || command instanceof Command.Transaction
        || command instanceof Command.Cancel // which looks whose it is
        || command instanceof Command.Grant) { // which looks at each thing
      return;
    }
    if (command instanceof Command.Insert c) {
      caller.need(Privilege.INSERT, whole.find(c.target()));
    } else if (command instanceof Command.Update c) {
      caller.need(Privilege.UPDATE, whole.find(c.target()));
    } else if (command instanceof Command.Delete c) {
      caller.need(Privilege.DELETE, whole.find(c.target()));
    } else if (command instanceof Command.Explain c) {
      explain(c.plan(), caller, whole);
    } else if (command instanceof Command.ExplainSink c) {
      explain(c.sink().plan(), caller, whole);
      create(c.sink(), caller, whole);
    } else if (command instanceof Command.ShowCreate c) {
      caller.need(Privilege.OWN, whole.find(c.name()));
    } else if (command instanceof Command.Create c) {
      create(c, caller, whole);
    } else if (command instanceof Command.Drop c && !c.kind().equals("ROLE")) {
      drop(c, caller, whole);
    } else {
      String changed = changed(command);
      if (changed == null || whole.find(changed) == null) {
        caller.needOwner("do that");
      } else {
        caller.need(Privilege.OWN, whole.find(changed));
      }
    }
  }

  /** What a statement defines, changes, drops or grants. */
  static String named(Command command) {
    if (command instanceof Command.Grant g) {
      return g.privileges().keySet().stream().map(Target::text).collect(Collectors.joining(", "));
    }
    return command instanceof Command.Create c
        ? c.name()
        : command instanceof Command.Drop c
            ? c.name()
            : command instanceof Command.CreateRole c
                ? c.name()
                : command instanceof Command.AlterRole c ? c.name() : changed(command);
  }

  /** The name of what a statement changes, refreshes or indexes; null if it is something else. */
  private static String changed(Command command) {
    return command instanceof Command.AlterOptions c && !c.kind().equals("CONNECTION")
        ? c.name()
        : command instanceof Command.AddColumn c
            ? c.name()
            : command instanceof Command.Index c
                ? c.relation()
                : command instanceof Command.RefreshTable c
                    ? c.name()
                    : command instanceof Command.RefreshView c
                        ? c.name()
                        : command instanceof Command.RefreshSink c ? c.name() : null;
  }

  private static void create(Command.Create command, Caller caller, Catalog whole) {
    if (command instanceof Command.CreateConnection) {
      caller.needOwner("make connections");
    }
    caller.needCreate();
    SourceSpec source =
        command instanceof Command.CreateStream c
            ? c.source()
            : command instanceof Command.CreateTable c
                ? c.source()
                : command instanceof Command.CreateSink c ? c.target() : null;
    if (source != null) {
      caller.need(Privilege.USAGE, whole.find(source.connectionId()));
    }
    CatalogObject existing = whole.find(command.name());
    if (existing != null && command.ifExists() == Command.IfExists.REPLACE) {
      caller.need(Privilege.OWN, existing);
    }
  }

  private static void drop(Command.Drop command, Caller caller, Catalog whole) {
    CatalogObject object = whole.find(command.name());
    if (object == null) {
      caller.needOwner("drop \"" + command.name() + "\", which is not made yet,");
      return;
    }
    caller.need(Privilege.OWN, object);
    if (command.cascade()) {
      whole.dependents(object).forEach(o -> caller.need(Privilege.OWN, o));
    }
  }

  /** A plan tells what views read: that is for who may read it too. */
  private static void explain(PlanNode plan, Caller caller, Catalog whole) {
    if (plan instanceof PlanNode.Source source && source.relationId() >= 0) {
      caller.need(Privilege.SELECT, whole.find(source.relationId()));
    }
    plan.inputs().forEach(input -> explain(input, caller, whole));
  }
}
