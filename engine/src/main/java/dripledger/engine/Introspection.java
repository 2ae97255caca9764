package dripledger.engine;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.expr.Casts;
import dripledger.engine.plan.PlanPrinter;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import dripledger.engine.sql.Command;
import dripledger.engine.time.Watermark;
import dripledger.engine.view.RelationVersion;
import dripledger.engine.view.Snapshot;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.stream.Collectors;

/** SHOW, DESCRIBE and EXPLAIN: what is there, and how it does. Safe from any thread. */
final class Introspection {
  private static final Column NAME = text("name");
  private final Definitions definitions;
  private final Ledger ledger;

  Introspection(Definitions definitions, Ledger ledger) {
    this.definitions = definitions;
    this.ledger = ledger;
  }

  private static Column text(String name) {
    return new Column(name, ColumnType.varchar(-1));
  }

  private static Column number(String name) {
    return new Column(name, ColumnType.of(Kind.BIGINT));
  }

  private static Column time(String name) {
    return new Column(name, ColumnType.of(Kind.TIMESTAMP));
  }

  Result.Rows show(String kind, Snapshot snapshot) {
    Catalog catalog = definitions.catalog();
    List<Object[]> rows = new ArrayList<>();
    switch (kind) {
      case "STREAMS" -> {
        for (CatalogObject o : catalog.all()) {
          if (o instanceof CatalogObject.Stream s) {
            LiveNode node = definitions.node(s.id());
            rows.add(
                new Object[] {
                  s.name(), ledger.position(s.id()), watermark(node), node.late(), columns(s)
                });
          }
        }
        return new Result.Rows(
            List.of(NAME, number("events"), time("watermark"), number("late"), text("columns")),
            rows,
            snapshot.epoch());
      }
      case "TABLES" -> {
        for (CatalogObject o : catalog.all()) {
          if (o instanceof CatalogObject.Table t) {
            rows.add(
                new Object[] {
                  t.name(), count(snapshot, t.id()), names(t.schema(), t.primaryKey()), columns(t)
                });
          }
        }
        return new Result.Rows(
            List.of(NAME, number("rows"), text("key"), text("columns")), rows, snapshot.epoch());
      }
      default -> {
        for (CatalogObject o : catalog.all()) {
          if (o instanceof CatalogObject.View v) {
            rows.add(new Object[] {v.name(), v.kind(), null, null, null, null, null, "ok"});
          } else if (o instanceof CatalogObject.MaterializedView m) {
            LiveNode node = definitions.node(m.id());
            rows.add(
                new Object[] {
                  m.name(),
                  m.kind(),
                  count(snapshot, m.id()),
                  m.key() == null ? null : names(m.schema(), m.key()),
                  node.lastEpoch(),
                  node.circuit().rejects().count(),
                  node.stateBytes(),
                  health(node)
                });
          }
        }
        return new Result.Rows(
            List.of(
                NAME,
                text("kind"),
                number("rows"),
                text("key"),
                number("changed_epoch"),
                number("rejects"),
                number("state_bytes"),
                text("health")),
            rows,
            snapshot.epoch());
      }
    }
  }

  static String health(LiveNode node) {
    return node.failure() == null ? "ok" : "stopped: " + node.failure();
  }

  private static Object watermark(LiveNode node) {
    return node.watermarkMicros() == Watermark.NONE
        ? null
        : BoxedRows.timestamp(node.watermarkMicros());
  }

  private static Long count(Snapshot snapshot, long id) {
    RelationVersion version = snapshot.relation(id);
    return version == null ? null : version.count();
  }

  static String names(Schema schema, int[] columns) {
    return Arrays.stream(columns)
        .mapToObj(i -> schema.column(i).name())
        .collect(Collectors.joining(", "));
  }

  private static String columns(CatalogObject object) {
    return object.schema().columns().stream().map(Column::name).collect(Collectors.joining(", "));
  }

  Result.Rows describe(String name, Snapshot snapshot) {
    CatalogObject object = definitions.catalog().find(name);
    int[] key =
        object instanceof CatalogObject.Table t
            ? t.primaryKey()
            : object instanceof CatalogObject.MaterializedView m ? m.key() : null;
    List<Object[]> rows = new ArrayList<>();
    for (int i = 0; i < object.schema().size(); i++) {
      Column c = object.schema().column(i);
      rows.add(new Object[] {c.name(), c.type().sql(), c.type().nullable(), note(object, key, i)});
    }
    return new Result.Rows(
        List.of(
            text("column"),
            text("type"),
            new Column("nullable", ColumnType.of(Kind.BOOLEAN)),
            text("notes")),
        rows,
        snapshot.epoch());
  }

  private static String note(CatalogObject object, int[] key, int column) {
    List<String> notes = new ArrayList<>();
    for (int k = 0; key != null && k < key.length; k++) {
      if (key[k] == column) {
        String part = key.length == 1 ? "key" : "key part " + (k + 1);
        boolean declared = object instanceof CatalogObject.MaterializedView m && !m.keyProven();
        notes.add(declared ? part + " (declared, not proven)" : part);
      }
    }
    if (object instanceof CatalogObject.Stream s) {
      if (s.eventTime() == column) {
        notes.add("event time, lateness " + Casts.text(s.latenessMicros() / 1e6) + " s");
      }
      if (s.meta().containsKey(column)) {
        notes.add("set on arrival");
      }
    }
    return notes.isEmpty() ? null : String.join("; ", notes);
  }

  Result.Rows explain(Command.Explain command, Snapshot snapshot) {
    List<Object[]> rows = new ArrayList<>();
    LiveNode node =
        command.view() == null
            ? null
            : definitions.node(definitions.catalog().find(command.view()).id());
    boolean analyze = command.analyze() && node != null;
    for (PlanPrinter.Line line : PlanPrinter.print(command.plan())) {
      if (analyze) {
        rows.add(
            new Object[] {
              line.step(),
              line.state(),
              line.bound(),
              node.circuit().stateKeys(line.node()),
              node.circuit().stateBytes(line.node())
            });
      } else {
        rows.add(new Object[] {line.step(), line.state(), line.bound()});
      }
    }
    List<Column> columns = new ArrayList<>(List.of(text("step"), text("keeps"), text("bound")));
    if (analyze) {
      columns.add(number("keys"));
      columns.add(number("bytes"));
    }
    return new Result.Rows(columns, rows, snapshot.epoch());
  }
}
