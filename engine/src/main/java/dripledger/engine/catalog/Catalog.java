package dripledger.engine.catalog;

import java.util.ArrayList;
import java.util.Collection;
import java.util.Collections;
import java.util.LinkedHashMap;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;

/** All definitions at one moment, in the order they were made. Immutable. */
public final class Catalog {
  /** The catalog with nothing in it. */
  public static final Catalog EMPTY = new Catalog(new LinkedHashMap<>());

  private final Map<String, CatalogObject> byName;

  private Catalog(Map<String, CatalogObject> byName) {
    this.byName = Collections.unmodifiableMap(byName);
  }

  public Catalog with(CatalogObject object) {
    Map<String, CatalogObject> copy = new LinkedHashMap<>(byName);
    copy.put(object.name(), object);
    return new Catalog(copy);
  }

  public Catalog without(Collection<? extends CatalogObject> objects) {
    Map<String, CatalogObject> copy = new LinkedHashMap<>(byName);
    objects.forEach(o -> copy.remove(o.name()));
    return new Catalog(copy);
  }

  /** The object of this name, or null. */
  public CatalogObject find(String name) {
    return byName.get(name);
  }

  /** The object of this number, or null. */
  public CatalogObject find(long id) {
    return byName.values().stream().filter(o -> o.id() == id).findFirst().orElse(null);
  }

  /** The connection an object is fed through, or null. */
  public CatalogObject.Connection connectionOf(CatalogObject object) {
    SourceSpec source = CatalogObject.sourceOf(object);
    return source == null ? null : (CatalogObject.Connection) find(source.connectionId());
  }

  public List<CatalogObject> all() {
    return new ArrayList<>(byName.values());
  }

  /** Everything that directly or indirectly depends on the object, in the order it was made. */
  public List<CatalogObject> dependents(CatalogObject object) {
    Set<Long> gone = new LinkedHashSet<>(Set.of(object.id()));
    List<CatalogObject> out = new ArrayList<>();
    for (CatalogObject candidate : byName.values()) {
      if (dependsOn(candidate).stream().anyMatch(gone::contains)) {
        gone.add(candidate.id());
        out.add(candidate);
      }
    }
    return out;
  }

  /** The numbers of what an object directly depends on. */
  public static Set<Long> dependsOn(CatalogObject object) {
    SourceSpec source = CatalogObject.sourceOf(object);
    if (source != null) {
      return Set.of(source.connectionId());
    }
    if (object instanceof CatalogObject.View v) {
      return v.dependsOn();
    }
    if (object instanceof CatalogObject.Endpoint e) {
      return e.dependsOn();
    }
    if (object instanceof CatalogObject.Sink sink) {
      Set<Long> all = new LinkedHashSet<>(sink.dependsOn());
      all.add(sink.target().connectionId());
      return all;
    }
    return object instanceof CatalogObject.MaterializedView m ? m.dependsOn() : Set.of();
  }
}
