package dripledger.engine.change;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.query.QueryRunner;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Bytes;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.RowWriter;
import dripledger.engine.source.Ledger;
import dripledger.engine.sql.Command;
import dripledger.engine.view.OverlayVersion;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/**
 * INSERT, UPDATE and DELETE of one transaction: works out deltas against a snapshot that already
 * shows the transaction's own earlier changes, and keeps them until they are appended to the ledger
 * as one unit. Primary keys and NOT NULL are checked at the end of each statement; one that fails
 * leaves what was changed before as it was. One thread, one use.
 */
final class TableChanges {
  private final Catalog catalog;
  private final QueryRunner runner;
  private final long nowMicros;
  private final List<Delta> pending = new ArrayList<>(); // a statement each
  private Snapshot snapshot;

  private record Delta(long relation, Page rows) {}

  /** How far a transaction had come. */
  record Mark(Snapshot snapshot, int statements) {}

  TableChanges(Catalog catalog, QueryRunner runner, Snapshot snapshot, long nowMicros) {
    this.catalog = catalog;
    this.runner = runner;
    this.snapshot = snapshot;
    this.nowMicros = nowMicros;
  }

  /** The relations as the transaction sees them. */
  Snapshot snapshot() {
    return snapshot;
  }

  Mark mark() {
    return new Mark(snapshot, pending.size());
  }

  /** Forgets what was changed since. */
  void backTo(Mark mark) {
    snapshot = mark.snapshot;
    pending.subList(mark.statements, pending.size()).clear();
  }

  /** What to append to the ledger; empty if nothing changed. */
  List<Ledger.Entry> entries() {
    Map<Long, Page> together = new LinkedHashMap<>();
    for (Delta delta : pending) {
      Page rows = delta.rows;
      Page all = together.computeIfAbsent(delta.relation, id -> new Page(rows.layout()));
      for (int i = 0; i < rows.size(); i++) {
        if (rows.weight(i) != 0) {
          all.append(rows.bytes(), rows.start(i), rows.end(i) - rows.start(i), rows.weight(i));
        }
      }
    }
    List<Ledger.Entry> entries = new ArrayList<>();
    together.forEach(
        (id, page) -> {
          if (!page.isEmpty()) {
            entries.add(new Ledger.Entry(id, page, 0, nowMicros));
          }
        });
    return entries;
  }

  /** What a statement changed, in words and in rows. */
  record Changed(String message, long rows) {}

  Changed insert(Command.Insert command) {
    CatalogObject target = catalog.find(command.target());
    RowLayout layout = new RowLayout(target.schema());
    Page delta = new Page(layout);
    RowLayout from = new RowLayout(command.rows().schema());
    runner.run(
        command.rows(),
        snapshot,
        page -> {
          for (int i = 0; i < page.size(); i++) {
            copyRow(target, from, page.bytes(), page.start(i), null, delta.begin());
            delta.commit(page.weight(i));
          }
        });
    keep(target, delta);
    return new Changed("inserted " + rows(delta.size()) + " into " + target.name(), delta.size());
  }

  Changed update(Command.Update command) {
    CatalogObject.Table target = (CatalogObject.Table) catalog.find(command.target());
    RowLayout layout = new RowLayout(target.schema());
    Page delta = new Page(layout);
    RowLayout from = new RowLayout(command.rows().schema());
    int[] counted = new int[1];
    runner.run(
        command.rows(),
        snapshot,
        page -> {
          for (int i = 0; i < page.size(); i++) {
            copyRow(target, from, page.bytes(), page.start(i), null, delta.begin());
            delta.commit(-1);
            copyRow(target, from, page.bytes(), page.start(i), command.columns(), delta.begin());
            delta.commit(1);
            counted[0]++;
            dropIfSame(delta);
          }
        });
    keep(target, delta);
    return new Changed("updated " + rows(counted[0]) + " of " + target.name(), counted[0]);
  }

  Changed delete(Command.Delete command) {
    CatalogObject target = catalog.find(command.target());
    RowLayout layout = new RowLayout(target.schema());
    Page delta = new Page(layout);
    RowLayout from = new RowLayout(command.rows().schema());
    runner.run(
        command.rows(),
        snapshot,
        page -> {
          for (int i = 0; i < page.size(); i++) {
            copyRow(target, from, page.bytes(), page.start(i), null, delta.begin());
            delta.commit(-page.weight(i));
          }
        });
    keep(target, delta);
    return new Changed("deleted " + rows(delta.size()) + " of " + target.name(), delta.size());
  }

  private static String rows(int n) {
    return n == 1 ? "1 row" : n + " rows";
  }

  private static void dropIfSame(Page delta) {
    int last = delta.size() - 1;
    int length = delta.end(last) - delta.start(last);
    if (delta.end(last - 1) - delta.start(last - 1) == length
        && Bytes.equal(
            delta.bytes(), delta.start(last - 1), delta.bytes(), delta.start(last), length)) {
      delta.setWeight(last - 1, 0);
      delta.setWeight(last, 0);
    }
  }

  /**
   * Copies a row into the target's layout.
   *
   * @param replaced columns whose values stand behind the row itself, in order, or null
   */
  private void copyRow(
      CatalogObject target,
      RowLayout from,
      byte[] bytes,
      int at,
      int[] replaced,
      RowWriter writer) {
    int n = target.schema().size();
    for (int c = 0; c < n; c++) {
      int source = c;
      for (int r = 0; replaced != null && r < replaced.length; r++) {
        if (replaced[r] == c) {
          source = n + r;
        }
      }
      if (from.isNull(bytes, at, source)) {
        if (target instanceof CatalogObject.Stream s && s.origins().meta().containsKey(c)) {
          writer.setLong(c, nowMicros);
          continue;
        }
        if (!target.schema().type(c).nullable()) {
          throw new EngineException(
                  Code.CONSTRAINT,
                  "column \""
                      + target.schema().column(c).name()
                      + "\" of "
                      + target.name()
                      + " must not be NULL")
              .state("23502");
        }
      }
      writer.copy(c, from, bytes, at, source);
    }
  }

  private void keep(CatalogObject target, Page delta) {
    if (target instanceof CatalogObject.Table table) {
      RelationVersion now = OverlayVersion.of(snapshot.relation(table.id()), delta);
      checkKeys(table, delta, now);
      snapshot = snapshot.with(table.id(), now);
    }
    pending.add(new Delta(target.id(), delta));
  }

  private static void checkKeys(CatalogObject.Table table, Page delta, RelationVersion now) {
    for (int i = 0; i < delta.size(); i++) {
      if (delta.weight(i) <= 0) {
        continue;
      }
      Object[] key = new Object[table.primaryKey().length];
      for (int k = 0; k < key.length; k++) {
        key[k] =
            BoxedRows.readColumn(
                delta.layout(), delta.bytes(), delta.start(i), table.primaryKey()[k]);
      }
      int[] found = new int[1];
      now.find(key, (bytes, at) -> ++found[0] < 2);
      if (found[0] > 1) {
        List<String> shown = new ArrayList<>();
        for (int k = 0; k < key.length; k++) {
          shown.add(table.schema().column(table.primaryKey()[k]).name() + " = " + key[k]);
        }
        throw new EngineException(
                Code.CONSTRAINT,
                table.name() + " already has a row with " + String.join(", ", shown),
                "UPDATE the row, or DELETE it first")
            .state("23505");
      }
    }
  }
}
