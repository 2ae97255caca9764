package dripledger.engine.definition;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.catalog.DefinitionStore.StoredDefinition;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.epoch.EpochWait;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.query.Result;
import dripledger.engine.sql.Command;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.stream.Collectors;

/**
 * CREATE INDEX and DROP INDEX: kept as statements behind the one that made the relation, and gone
 * with it. Callers hold the definition lock.
 */
public final class Indexes {
  private final LiveCatalog live;
  private final DefinitionStore store;
  private final EpochLoop loop;
  private final OngoingWork ongoing;

  Indexes(LiveCatalog live, DefinitionStore store, EpochLoop loop, OngoingWork ongoing) {
    this.live = live;
    this.store = store;
    this.loop = loop;
    this.ongoing = ongoing;
  }

  /** Carries a statement out. */
  public Result change(String sql, Command.Index command) {
    CatalogObject object = live.catalog().find(command.relation());
    ongoing.refuseIfUsed(object, "altered");
    LiveNode node = live.node(object.id());
    int[] columns = columns(command);
    String name =
        command.relation()
            + command.columns().stream()
                .map(c -> object.schema().column(c).name())
                .collect(Collectors.joining(", ", " (", ")"));
    boolean there = node.orders().stream().anyMatch(o -> Arrays.equals(o, columns));
    if (there != command.drop()) {
      if (command.quiet()) {
        return new Result.Done(
            (there ? "there is an index on " : "there is no index on ") + name,
            loop.snapshot().epoch());
      }
      throw new EngineException(
          there ? Code.ALREADY_EXISTS : Code.NOT_FOUND,
          (there ? "there is an index on " : "there is no index on ") + name,
          command.line(),
          command.column(),
          null);
    }
    store.apply(
        List.of(
            new StoredDefinition(store.nextId(), object.name(), "index", object.id(), sql, null)),
        List.of());
    EpochWait.await(loop.between(() -> node.orders(with(node.orders(), command))));
    return new Result.Done(
        (command.drop() ? "dropped" : "created") + " index on " + name, loop.snapshot().epoch());
  }

  /** What a statement that was kept says, at a start. */
  void restore(Command.Index command) {
    LiveNode node = live.node(live.catalog().find(command.relation()).id());
    node.orders(with(node.orders(), command));
  }

  private static List<int[]> with(List<int[]> orders, Command.Index command) {
    List<int[]> now = new ArrayList<>(orders);
    if (command.drop()) {
      now.removeIf(o -> Arrays.equals(o, columns(command)));
    } else {
      now.add(columns(command));
    }
    return now;
  }

  private static int[] columns(Command.Index command) {
    return command.columns().stream().mapToInt(i -> i).toArray();
  }
}
