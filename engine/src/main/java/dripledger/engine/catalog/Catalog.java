package dripledger.engine.catalog;

import java.util.ArrayList;
import java.util.Collection;
import java.util.Collections;
import java.util.LinkedHashMap;
import java.util.LinkedHashSet;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.Predicate;

/**
 * All definitions at one moment, in the order they were made; or those of them that somebody may
 * use. Immutable.
 */
public final class Catalog {
  /** The catalog with nothing in it. */
  public static final Catalog EMPTY = new Catalog(new LinkedHashMap<>());

  private final Map<String, CatalogObject> byName;
  private final Catalog whole; // null if it is this
  private final Predicate<CatalogObject> readable; // null if everything is

  private Catalog(Map<String, CatalogObject> byName) {
    this(byName, null, null);
  }

  private Catalog(
      Map<String, CatalogObject> byName, Catalog whole, Predicate<CatalogObject> readable) {
    this.byName = Collections.unmodifiableMap(byName);
    this.whole = whole;
    this.readable = readable;
  }

  /**
   * A part of it: nothing else can be named.
   *
   * @param visible what it has
   * @param readable of that and of the tables of figures, what can be read
   */
  public Catalog part(Predicate<CatalogObject> visible, Predicate<CatalogObject> readable) {
    Map<String, CatalogObject> left = new LinkedHashMap<>(byName);
    left.values().removeIf(visible.negate());
    return new Catalog(left, whole(), readable);
  }

  /** The catalog that this is a part of, or this. */
  public Catalog whole() {
    return whole == null ? this : whole;
  }

  /** Whether it is only a part. */
  public boolean isPart() {
    return whole != null;
  }

  /** Whether the rows of a thing that it has, or of a table of figures, can be read. */
  public boolean isReadable(CatalogObject object) {
    return readable == null || readable.test(object);
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

  /** The object of this number, or null; of the whole catalog, for plans that are made. */
  public CatalogObject find(long id) {
    return whole().byName.values().stream().filter(o -> o.id() == id).findFirst().orElse(null);
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
