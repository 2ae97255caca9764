package dripledger.engine.query;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.sql.ArgumentKinds;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.PreparedQuery;
import dripledger.engine.sql.SqlFrontEnd;
import java.util.LinkedHashMap;
import java.util.Map;
import java.util.function.LongSupplier;

/**
 * Queries that have been asked before, by their text and the types of their parameters: planned
 * once, as long as the catalog stays the same. What is asked a second time is kept, so that what is
 * asked once costs nothing more. Safe from any thread.
 */
public final class PreparedQueries {
  private static final int KEPT = 500;
  private static final int MAX_CHARS = 10_000; // longer texts are not kept

  /** Either seen once, or prepared, or found to be none that can be. */
  private record Entry(Catalog catalog, PreparedQuery query) {}

  /** {@code role} is whose part of the catalog it was planned with. */
  private record Key(String role, String text, ArgumentKinds kinds) {}

  private final SqlFrontEnd frontEnd;
  private final LongSupplier nowMicros;
  private final Map<Key, Entry> kept =
      new LinkedHashMap<>(64, 0.75f, true) {
        private static final long serialVersionUID = 1L;

        @Override
        protected boolean removeEldestEntry(Map.Entry<Key, Entry> eldest) {
          return size() > KEPT;
        }
      };

  /**
   * @param nowMicros the time of day, in microseconds since 1970
   */
  public PreparedQueries(SqlFrontEnd frontEnd, LongSupplier nowMicros) {
    this.frontEnd = frontEnd;
    this.nowMicros = nowMicros;
  }

  /**
   * The plan of a query for some values of its parameters.
   *
   * @param role whose part of the catalog is seen
   * @return null if it must be planned with them
   */
  public Command.QueryPlan find(
      String text, Map<String, Object> arguments, String role, Catalog catalog) {
    ArgumentKinds kinds = text.length() > MAX_CHARS ? null : ArgumentKinds.of(arguments);
    if (kinds == null) {
      return null;
    }
    Entry entry;
    synchronized (kept) {
      entry = kept.get(new Key(role, text, kinds));
    }
    return entry != null && entry.catalog == catalog && entry.query != null
        ? entry.query.bind(arguments, nowMicros.getAsLong())
        : null;
  }

  /** Notes that a query was asked and planned; prepares it if it was asked before. */
  public void asked(String text, Map<String, Object> arguments, String role, Catalog catalog) {
    ArgumentKinds kinds = text.length() > MAX_CHARS ? null : ArgumentKinds.of(arguments);
    if (kinds == null) {
      return;
    }
    Key key = new Key(role, text, kinds);
    synchronized (kept) {
      Entry entry = kept.get(key);
      if (entry != null && entry.catalog == catalog) {
        return; // it cannot be prepared
      }
      if (entry == null) {
        kept.put(key, new Entry(null, null));
        return;
      }
    }
    PreparedQuery query = frontEnd.prepare(text, catalog, kinds);
    synchronized (kept) {
      kept.put(key, new Entry(catalog, query));
    }
  }
}
