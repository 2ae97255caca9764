package dripledger.engine.introspection;

import dripledger.engine.access.Access;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.catalog.Figures;
import dripledger.engine.circuit.InputNode;
import dripledger.engine.circuit.LateRows;
import dripledger.engine.circuit.Rejects;
import dripledger.engine.definition.Definitions;
import dripledger.engine.definition.ViewState;
import dripledger.engine.epoch.EpochLoop;
import dripledger.engine.intake.Sources;
import dripledger.engine.query.Endpoints;
import dripledger.engine.query.RunningScripts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.Connectors;
import dripledger.engine.source.Drift;
import dripledger.engine.source.Reject;
import dripledger.engine.source.RejectStore;
import dripledger.engine.time.Spans;
import dripledger.engine.time.Watermark;
import dripledger.engine.upkeep.Upkeeper;
import java.nio.charset.StandardCharsets;
import java.time.Clock;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.List;
import java.util.StringJoiner;

/** Makes the rows of the tables in schema {@code drip} when they are read. Safe from any thread. */
public final class FigureTables {
  private final Definitions definitions;
  private final EpochLoop loop;
  private final RejectStore rejects;
  private final Upkeeper upkeeper;
  private final Connectors connectors;
  private final Sources sources;
  private final DefinitionStore history;
  private final RunningScripts scripts;
  private final Endpoints endpoints;
  private final Access access;
  private final Clock clock;

  public FigureTables(
      Definitions definitions,
      EpochLoop loop,
      RejectStore rejects,
      Connectors connectors,
      Sources sources,
      DefinitionStore history,
      Upkeeper upkeeper,
      RunningScripts scripts,
      Endpoints endpoints,
      Access access,
      Clock clock) {
    this.endpoints = endpoints;
    this.scripts = scripts;
    this.definitions = definitions;
    this.loop = loop;
    this.rejects = rejects;
    this.upkeeper = upkeeper;
    this.connectors = connectors;
    this.sources = sources;
    this.history = history;
    this.access = access;
    this.clock = clock;
  }

  private static final int SHOWN = 1000; // characters of a statement

  private void activity(List<Object[]> rows) {
    for (RunningScripts.Script script : scripts.all()) {
      String text = script.text();
      rows.add(
          new Object[] {
            script.number(),
            script.id(),
            BoxedRows.timestamp((clock.millis() - script.millis()) * 1000),
            script.millis(),
            text.length() > SHOWN ? text.substring(0, SHOWN) + "…" : text
          });
    }
  }

  public Page rows(long id) {
    Figures table = Figures.ALL.stream().filter(f -> f.id() == id).findFirst().orElseThrow();
    List<Object[]> rows = new ArrayList<>();
    Catalog catalog = definitions.catalog();
    if (table == Figures.REJECTS) {
      rejects(catalog, rows);
    } else if (table == Figures.INPUTS) {
      for (Sources.Input input : sources.inputs()) {
        rows.add(
            new Object[] {
              input.name(),
              input.connection(),
              input.status().state(),
              input.status().reason(),
              input.position(),
              input.status().messages(),
              input.status().bytes(),
              input.status().behind() < 0 ? null : input.status().behind(),
              input.status().behindUnit(),
              input.status().kept() < 0 ? null : input.status().kept()
            });
      }
    } else if (table == Figures.DRIFT) {
      for (CatalogObject object : catalog.all()) {
        for (Drift d : connectors.drift(object.id())) {
          rows.add(
              new Object[] {
                object.name(), d.field(), d.what(), d.count(), d.type(), d.example(), d.origin()
              });
        }
      }
    } else if (table == Figures.HISTORY) {
      for (DefinitionStore.Past past : history.history()) {
        rows.add(
            new Object[] {
              past.name(), past.kind(), past.definedAt(), past.droppedAt(), past.sql()
            });
      }
    } else if (table == Figures.ENDPOINTS) {
      for (CatalogObject.Endpoint e : endpoints.all(access.owner())) {
        endpoints
            .takenByRole(e)
            .forEach(
                (role, taken) ->
                    rows.add(
                        new Object[] {
                          e.name(),
                          role,
                          taken.calls(),
                          taken.errors(),
                          taken.p50Millis(),
                          taken.p99Millis()
                        }));
      }
    } else if (table == Figures.ACTIVITY) {
      activity(rows);
    } else if (table == Figures.ROLES) {
      rows.addAll(AccessFigures.roles(access));
    } else if (table == Figures.GRANTS) {
      rows.addAll(AccessFigures.grants(access));
    } else if (table == Figures.TOKENS) {
      rows.addAll(AccessFigures.tokens(access));
    } else if (table == Figures.JOURNAL) {
      rows.addAll(AccessFigures.journal(access));
    } else if (table == Figures.LATE) {
      late(catalog, rows);
    } else if (table == Figures.WATERMARKS) {
      rows.addAll(new WatermarkFigures(definitions, clock).rows());
    } else if (table == Figures.UPKEEP) {
      rows.addAll(new UpkeepFigures(definitions, upkeeper).runs());
    } else if (table == Figures.FRESHNESS) {
      rows.addAll(new UpkeepFigures(definitions, upkeeper).minutes());
    } else {
      partitions(catalog, rows);
    }
    Page page = new Page(new RowLayout(table.schema()));
    for (Object[] row : rows) {
      BoxedRows.write(page.begin(), row);
      page.commit(1);
    }
    return page;
  }

  private void rejects(Catalog catalog, List<Object[]> rows) {
    rejects.scan(stored -> rows.add(reject(catalog, stored.id(), stored.reject())));
    for (Reject pending : loop.rejects().rejects()) {
      rows.add(reject(catalog, null, pending));
    }
    for (CatalogObject object : catalog.all()) {
      if (object instanceof CatalogObject.MaterializedView view) {
        definitions.state(view).rejectedRows().forEach(r -> rows.add(failing(object, r)));
      }
    }
  }

  private static Object[] reject(Catalog catalog, Long id, Reject r) {
    CatalogObject object = catalog.find(r.objectId());
    return new Object[] {
      id,
      object == null ? null : object.name(),
      r.at(),
      r.reason(),
      r.origin(),
      r.raw() == null ? null : new String(r.raw(), StandardCharsets.UTF_8),
      r.raw(),
      r.key()
    };
  }

  /** A row that a view fails on now. */
  private static Object[] failing(CatalogObject view, Rejects.Row r) {
    StringJoiner text = new StringJoiner(", ");
    for (int c = 0; c < r.layout().columns(); c++) {
      Object value = BoxedRows.readColumn(r.layout(), r.row(), 0, c);
      text.add(r.layout().schema().column(c).name() + "=" + value);
    }
    LocalDateTime at = BoxedRows.timestamp(r.atMillis() * 1000);
    return new Object[] {null, view.name(), at, r.reason(), r.step(), text.toString(), null, null};
  }

  private void late(Catalog catalog, List<Object[]> rows) {
    for (CatalogObject object : catalog.all()) {
      if (!(object instanceof CatalogObject.MaterializedView view)) {
        continue;
      }
      for (ViewState.Late late : definitions.state(view).lateRows()) {
        for (LateRows.Class each : late.rows().classes()) {
          if (each.rows() > 0) {
            boolean known = each.upToMicros() != Long.MAX_VALUE;
            String by = known ? Spans.text(each.upToMicros()) : null;
            rows.add(new Object[] {view.name(), late.step(), by, each.rows()});
          }
        }
      }
    }
  }

  private void partitions(Catalog catalog, List<Object[]> rows) {
    for (CatalogObject object : catalog.all()) {
      if (!(definitions.node(object.id()) instanceof InputNode node)) {
        continue;
      }
      for (Watermark.PartitionMark mark : node.partitions()) {
        rows.add(
            new Object[] {
              object.name(),
              (long) mark.partition(),
              BoxedRows.timestamp(mark.micros()),
              mark.idle()
            });
      }
    }
  }
}
