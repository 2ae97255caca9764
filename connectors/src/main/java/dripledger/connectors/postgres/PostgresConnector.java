package dripledger.connectors.postgres;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.Connector;
import dripledger.connectors.DeclaredColumns;
import dripledger.connectors.format.DriftLog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourcePosition;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.row.Column;
import dripledger.engine.row.Page;
import dripledger.engine.source.Feed;
import dripledger.engine.source.Listing;
import dripledger.engine.source.Outgoing;
import dripledger.engine.source.PartitionSink;
import dripledger.engine.source.Proposal;
import dripledger.engine.source.RawMessage;
import dripledger.engine.source.SourceSink;
import dripledger.engine.source.Target;
import java.nio.charset.StandardCharsets;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.sql.ResultSet;
import java.sql.SQLException;
import java.sql.Statement;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.LongFunction;

/** Tables of a PostgreSQL database, followed through logical replication. */
public final class PostgresConnector implements Connector {
  private static final Set<String> OPTIONS = Set.of("table");

  @Override
  public void check(ConnectionOptions options) {
    new PostgresAccess(options).check();
  }

  @Override
  public boolean shared() {
    return true;
  }

  @Override
  public void prepare(ConnectionOptions options, CatalogObject.Sink sink) {
    TableTarget.prepare(options, sink);
  }

  @Override
  public List<String> preview(
      ConnectionOptions options, CatalogObject.Sink sink, List<Outgoing.Change> changes) {
    return TableTarget.preview(options, sink, changes);
  }

  @Override
  public Target target(ConnectionOptions options, CatalogObject.Sink sink, String identity) {
    return TableTarget.open(options, sink, identity);
  }

  @Override
  public void forget(ConnectionOptions options, CatalogObject.Sink sink, String identity) {
    TableTarget.forget(options, sink, identity);
  }

  @Override
  public List<Listing> list(ConnectionOptions options) {
    PostgresAccess access = new PostgresAccess(options);
    List<Listing> listings = new ArrayList<>();
    try (Connection c = access.connect();
        PreparedStatement s =
            c.prepareStatement(
                "SELECT n.nspname || '.' || c.relname, c.reltuples::bigint,"
                    + " pg_total_relation_size(c.oid)"
                    + " FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace"
                    + " WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition"
                    + " AND n.nspname NOT IN ('pg_catalog', 'information_schema')"
                    + " AND n.nspname NOT LIKE 'pg_temp%' AND n.nspname NOT LIKE 'pg_toast%'"
                    + " ORDER BY 1");
        ResultSet r = s.executeQuery()) {
      while (r.next()) {
        SourceTable table = SourceTable.of(c, r.getString(1));
        listings.add(
            new Listing(
                r.getString(1),
                "table",
                1,
                r.getLong(2),
                r.getLong(3),
                -1,
                table.key(),
                table.obstacle()));
      }
      return listings;
    } catch (SQLException e) {
      throw access.failure(e);
    }
  }

  @Override
  public List<RawMessage> peek(ConnectionOptions options, String name, String from, int count) {
    PostgresAccess access = new PostgresAccess(options);
    List<RawMessage> rows = new ArrayList<>();
    try (Connection c = access.connect()) {
      SourceTable table = SourceTable.of(c, name);
      String query;
      try (PreparedStatement s =
          c.prepareStatement(
              "SELECT format('SELECT to_json(t)::text FROM %I.%I t LIMIT %L', ?, ?, ?)")) {
        s.setString(1, table.schema());
        s.setString(2, table.name());
        s.setString(3, "" + count);
        try (ResultSet r = s.executeQuery()) {
          r.next();
          query = r.getString(1);
        }
      }
      try (Statement s = c.createStatement();
          ResultSet r = s.executeQuery(query)) {
        while (r.next()) {
          rows.add(
              new RawMessage(
                  0,
                  rows.size() + 1L,
                  null,
                  null,
                  Map.of(),
                  r.getString(1).getBytes(StandardCharsets.UTF_8)));
        }
      }
      return rows;
    } catch (SQLException e) {
      throw access.failure(e);
    }
  }

  private static SourceTable table(Connection c, SourceSpec source) throws SQLException {
    ConnectionOptions.check(source.options().keySet(), OPTIONS, "a table of a database");
    if (source.format() != null) {
      throw new EngineException(
          Code.INVALID, "rows of a database have no FORMAT", "leave FORMAT out");
    }
    if (source.option("table") == null) {
      throw new EngineException(
          Code.INVALID,
          "which table of \"" + source.connection() + "\"?",
          "write FROM " + source.connection() + " (table 'public.…')");
    }
    return SourceTable.of(c, source.option("table"));
  }

  @Override
  public Proposal propose(ConnectionOptions options, SourceSpec source, boolean keyed) {
    PostgresAccess access = new PostgresAccess(options);
    try (Connection c = access.connect()) {
      SourceTable table = table(c, source);
      if (!keyed) {
        throw notAStream(source);
      }
      List<Proposal.Proposed> columns =
          table.columns().stream().map(Proposal.Proposed::unseen).toList();
      refuse(table);
      return new Proposal(columns, null, table.key(), 0, 0);
    } catch (SQLException e) {
      throw access.failure(e);
    }
  }

  private static EngineException notAStream(SourceSpec source) {
    return new EngineException(
        Code.INVALID,
        "rows of \"" + source.option("table") + "\" change, so they are not a stream",
        "write CREATE TABLE");
  }

  private static void refuse(SourceTable table) {
    if (table.obstacle() != null) {
      throw new EngineException(
          Code.INVALID,
          "option \"table\": " + table.qualified() + " cannot be followed: " + table.obstacle(),
          table.remedy());
    }
  }

  @Override
  public SourcePosition begin(ConnectionOptions options, CatalogObject object) {
    if (!(object instanceof CatalogObject.Table declared)) {
      throw notAStream(CatalogObject.sourceOf(object));
    }
    PostgresAccess access = new PostgresAccess(options);
    try (Connection c = access.connect()) {
      SourceTable table = table(c, declared.source());
      refuse(table);
      for (int i = 0; i < declared.schema().size(); i++) {
        if (!declared.origins().meta().containsKey(i)) {
          checkColumn(table, declared.schema().column(i));
        }
      }
      DeclaredColumns.key(
          declared,
          table.qualified(),
          table.key(),
          "changes tell which row they are of by the source's own key");
      Slots.Slot slot = Slots.find(c, access.slot());
      if (slot != null && !slot.lost()) {
        return LogPosition.at(slot.confirmed());
      }
      Slots.publish(c, access.slot());
      return LogPosition.at(Slots.create(access));
    } catch (SQLException e) {
      throw access.failure(e);
    }
  }

  private static void checkColumn(SourceTable table, Column declared) {
    Column source = DeclaredColumns.find(table.qualified(), table.columns(), declared);
    if (!PostgresTypes.fits(source.type(), declared.type())) {
      throw new EngineException(
          Code.INVALID,
          "column \""
              + declared.name()
              + "\" is "
              + source.type().sql()
              + " at the source and does"
              + " not fit "
              + declared.type().sql(),
          null);
    }
    DeclaredColumns.checkNull(source, declared, "at the source");
  }

  @Override
  public Feed open(
      ConnectionOptions options,
      List<CatalogObject> objects,
      SourcePosition from,
      SourceSink sink,
      LongFunction<DriftLog> drift) {
    return new PostgresFeed(new PostgresAccess(options), objects, from, sink, drift);
  }

  @Override
  public void read(
      ConnectionOptions options,
      CatalogObject.Stream stream,
      SourcePosition from,
      SourcePosition to,
      Page template,
      PartitionSink sink) {
    throw notAStream(stream.source());
  }

  /** What the source keeps under another name is let go of. */
  @Override
  public void altered(ConnectionOptions before, ConnectionOptions after) {
    boolean same =
        new PostgresAccess(before).slot().equals(new PostgresAccess(after).slot())
            && before.get("url", "").equals(after.get("url", ""));
    if (!same) {
      release(before);
    }
  }

  /** Drops slot and publication, so that the source keeps nothing for us. */
  @Override
  public void release(ConnectionOptions options) {
    PostgresAccess access = new PostgresAccess(options);
    try (Connection c = access.connect()) {
      Slots.drop(c, access.slot());
      PostgresAccess.execute(c, "DROP PUBLICATION IF EXISTS %I", access.slot());
    } catch (SQLException e) {
      throw access.failure(e);
    }
  }
}
