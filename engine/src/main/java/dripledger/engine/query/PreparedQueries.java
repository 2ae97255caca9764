package dripledger.engine.query;

import dripledger.engine.access.Caller;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.sql.Argument;
import dripledger.engine.sql.PreparedQuery;
import dripledger.engine.sql.SqlFrontEnd;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.Map;

/**
 * Queries that have been asked before, by their text: planned once, as long as the catalog stays
 * the same. What is asked a second time is kept, so that what is asked once costs nothing more.
 * Safe from any thread.
 */
public final class PreparedQueries {
  private static final int KEPT = 500;
  private static final int MAX_CHARS = 10_000; // longer texts are not kept

  /** Either seen once, or prepared, or found to be none that can be. */
  private record Entry(Catalog catalog, PreparedQuery query) {}

  /** {@code role} is whose part of the catalog it was planned with. */
  private record Key(String role, String text) {}

  private final Map<Key, Entry> byText =
      new LinkedHashMap<>(64, 0.75f, true) {
        private static final long serialVersionUID = 1L;

        @Override
        protected boolean removeEldestEntry(Map.Entry<Key, Entry> eldest) {
          return size() > KEPT;
        }
      };

  /** The query of this text, or null if it must be planned. */
  public synchronized PreparedQuery find(String text, Caller caller, Catalog catalog) {
    Entry entry = byText.get(new Key(caller.role(), text));
    return entry != null && entry.catalog == catalog ? entry.query : null;
  }

  /** Notes that a query was asked and planned; prepares it if it was asked before. */
  public void asked(String text, SqlFrontEnd frontEnd, Caller caller, Catalog catalog) {
    if (text.length() > MAX_CHARS) {
      return;
    }
    Key key = new Key(caller.role(), text);
    synchronized (this) {
      Entry entry = byText.get(key);
      if (entry != null && entry.catalog == catalog) {
        return; // it cannot be prepared
      }
      if (entry == null) {
        byText.put(key, new Entry(null, null));
        return;
      }
    }
    PreparedQuery prepared = frontEnd.prepare(text, catalog);
    synchronized (this) {
      byText.put(key, new Entry(catalog, prepared));
    }
  }

  /**
   * The values of the columns that parameters are compared with, as the relation keeps them.
   *
   * @return null if a value is missing or of another kind; then the query must be planned with it
   */
  public static Map<Integer, Object> bound(PreparedQuery query, Map<String, Object> arguments) {
    Map<Integer, Object> values = new HashMap<>();
    for (PreparedQuery.Binding binding : query.bindings()) {
      Object value = Argument.plain(arguments.get(binding.parameter()));
      if (binding.text() && value instanceof String) {
        values.put(binding.column(), value);
      } else if (!binding.text() && (value instanceof Integer || value instanceof Long)) {
        values.put(binding.column(), ((Number) value).longValue());
      } else {
        return null;
      }
    }
    return values;
  }
}
