package dripledger.connectors.format;

import dripledger.engine.source.Drift;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.Supplier;

/**
 * Notes fields that messages have and the declaration does not, and values that do not fit it: how
 * many, of what type, with the first example and where it was. Bounded in fields. Safe from any
 * thread.
 */
public final class DriftLog {
  private static final String NEW_FIELD = "new field";
  private static final String TYPE = "type";
  private static final String OTHER_KEY = "not the row's key";
  private static final int MAX_FIELDS = 200;
  private static final int EXAMPLE_CHARS = 80;

  private static final class Entry {
    long count;
    String type;
    String example;
    String origin;
  }

  private final Map<String, Entry> fields = new HashMap<>();
  private final Map<String, Entry> types = new HashMap<>();
  private final Map<String, Entry> keys = new HashMap<>();
  private volatile Supplier<String> origin = () -> "";

  /** Begins where an earlier process was. */
  public DriftLog(List<Drift> before) {
    for (Drift d : before) {
      Entry entry = new Entry();
      entry.count = d.count();
      entry.type = d.type();
      entry.example = d.example();
      entry.origin = d.origin();
      (d.what().equals(NEW_FIELD) ? fields : d.what().equals(TYPE) ? types : keys)
          .put(d.field(), entry);
    }
  }

  /** Forgets new fields that are declared by now. */
  public synchronized void declared(Set<String> paths) {
    fields.keySet().removeAll(paths);
  }

  /** Who tells where the message being read stands; asked when something is met first. */
  public void at(Supplier<String> place) {
    origin = place;
  }

  /** Counts a new field, if it has an example already or can have none; whether that is so. */
  public synchronized boolean known(String field) {
    Entry entry = fields.get(field);
    if (entry != null) {
      entry.count++;
      return true;
    }
    return fields.size() >= MAX_FIELDS;
  }

  /** Whether a new field has an example already, or can have none; counts nothing. */
  synchronized boolean has(String field) {
    return fields.containsKey(field) || fields.size() >= MAX_FIELDS;
  }

  /** A field that is not declared. */
  public synchronized void newField(String field, String type, String example) {
    add(fields, field, type, example);
  }

  /** A value that is not of the declared type. */
  public synchronized void misfit(String field, String type, String example) {
    add(types, field, type, example);
  }

  /** A message whose key is not that of the row it holds. */
  public synchronized void otherKey(String key) {
    add(keys, "message key", "VARCHAR", key);
  }

  private void add(Map<String, Entry> to, String field, String type, String example) {
    Entry entry = to.get(field);
    if (entry == null) {
      if (to.size() >= MAX_FIELDS) {
        return;
      }
      entry = new Entry();
      entry.type = type;
      entry.example =
          example.length() > EXAMPLE_CHARS ? example.substring(0, EXAMPLE_CHARS) + "…" : example;
      entry.origin = origin.get();
      to.put(field, entry);
    }
    entry.count++;
  }

  /** What was noted so far. */
  public synchronized List<Drift> all() {
    List<Drift> all = new ArrayList<>();
    fields.forEach((f, e) -> all.add(drift(f, NEW_FIELD, e)));
    types.forEach((f, e) -> all.add(drift(f, TYPE, e)));
    keys.forEach((f, e) -> all.add(drift(f, OTHER_KEY, e)));
    return all;
  }

  private static Drift drift(String field, String what, Entry e) {
    return new Drift(field, what, e.count, e.type, e.example, e.origin);
  }
}
