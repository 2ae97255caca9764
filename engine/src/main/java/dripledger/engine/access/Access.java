package dripledger.engine.access;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Figures;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.HashSet;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.concurrent.ConcurrentHashMap;
import java.util.concurrent.CopyOnWriteArrayList;
import java.util.concurrent.atomic.AtomicLong;
import java.util.function.BooleanSupplier;

/**
 * Roles and what they were granted. Views read with the rights of whoever made them, so that a role
 * needs rights only on what it names itself. Safe from any thread.
 */
public final class Access {
  private static final Role ALL = new Role(Role.OWNER, true, false, Role.Bounds.NONE);

  private final AccessStore store;
  private final List<Runnable> listeners = new CopyOnWriteArrayList<>();
  private final Map<String, Part> parts = new ConcurrentHashMap<>();
  private final AtomicLong version = new AtomicLong();
  private volatile State state = new State(Map.of(), Set.of());

  /** All there is at one moment. */
  private record State(Map<String, Role> roles, Set<Grant> grants) {}

  /** What a role sees of a catalog. */
  private record Part(Catalog whole, State state, Catalog part) {}

  public Access(AccessStore store) {
    this.store = store;
  }

  /** Reads what is stored; makes the owner's role if it is missing. */
  public synchronized void load() {
    Map<String, Role> roles = new LinkedHashMap<>();
    store.roles().forEach(role -> roles.put(role.name(), role));
    if (!roles.containsKey(Role.OWNER)) {
      store.put(ALL);
      roles.put(Role.OWNER, ALL);
    }
    change(roles, Set.copyOf(store.grants()));
  }

  private void change(Map<String, Role> roles, Set<Grant> grants) {
    state = new State(roles, grants);
    version.incrementAndGet();
    listeners.forEach(Runnable::run);
  }

  /** What to run when a role or a grant has changed; must be quick. */
  public void onChange(Runnable listener) {
    listeners.add(listener);
  }

  /** Grows whenever a role or a grant changes. */
  public long version() {
    return version.get();
  }

  public AccessStore store() {
    return store;
  }

  /** The owner, as who everything is done that the service does by itself. */
  public Caller owner() {
    return caller(Role.OWNER, null);
  }

  /**
   * Somebody as a role.
   *
   * @param via by which token, from where; or null
   */
  public Caller caller(String role, String via) {
    return caller(role, via, () -> true);
  }

  /**
   * As above.
   *
   * @param good whether what has proven it is still good
   */
  public Caller caller(String role, String via, BooleanSupplier good) {
    return new Caller(this, role, via, good);
  }

  public List<Role> roles() {
    return List.copyOf(state.roles.values());
  }

  public Set<Grant> grants() {
    return state.grants;
  }

  /** Whether there is a role of this name. */
  public boolean hasRole(String name) {
    return state.roles.containsKey(name);
  }

  /** Whether there is anybody but the owner. */
  public boolean hasOthers() {
    return state.roles.size() > 1;
  }

  /**
   * The role of this name.
   *
   * @throws EngineException (FORBIDDEN) if it is gone
   */
  public Role role(String name) {
    Role role = state.roles.get(name);
    if (role == null && name.equals(Role.OWNER)) {
      return ALL; // before anything is loaded
    }
    if (role == null) {
      throw new EngineException(Code.FORBIDDEN, "role " + name + " is no longer there");
    }
    return role;
  }

  boolean may(String role, Privilege privilege, CatalogObject object) {
    return may(state, role(role), privilege, object);
  }

  private static boolean may(State now, Role role, Privilege privilege, CatalogObject object) {
    return role.owner()
        || has(now, role, privilege, Target.of(object))
        || has(now, role, Privilege.OWN, Target.of(object))
        || has(now, role, privilege, Target.schemaOf(object));
  }

  private static boolean has(State now, Role role, Privilege privilege, Target on) {
    return now.grants.contains(new Grant(role.name(), privilege, on));
  }

  boolean mayCreate(String name) {
    Role role = role(name);
    return role.owner() || has(state, role, Privilege.CREATE, new Target(Target.PUBLIC, null));
  }

  /** The part of a catalog that a role sees: what it has any right on. */
  Catalog part(String name, Catalog whole) {
    Role role = role(name);
    if (role.owner()) {
      return whole;
    }
    State now = state;
    Part known = parts.get(name);
    if (known != null && known.whole == whole && known.state == now) {
      return known.part;
    }
    Catalog part =
        whole.part(object -> sees(now, role, object), o -> may(now, role, Privilege.SELECT, o));
    parts.put(name, new Part(whole, now, part));
    return part;
  }

  private static boolean sees(State now, Role role, CatalogObject object) {
    for (Privilege privilege : Privilege.values()) {
      if (privilege != Privilege.CREATE && may(now, role, privilege, object)) {
        return true;
      }
    }
    return false;
  }

  // ---- changes

  /** Makes a role; false if it is there already. */
  public synchronized boolean create(Role role) {
    if (state.roles.containsKey(role.name())) {
      return false;
    }
    put(role);
    return true;
  }

  /** Makes a role, or changes it. */
  public synchronized void put(Role role) {
    store.put(role);
    Map<String, Role> roles = new LinkedHashMap<>(state.roles);
    roles.put(role.name(), role);
    change(roles, state.grants);
  }

  /** Drops a role, with its grants and tokens. */
  public synchronized void drop(String name) {
    role(name);
    if (name.equals(Role.OWNER)) {
      throw new EngineException(Code.INVALID, "there must be an owner", null);
    }
    for (Grant grant : state.grants) {
      if (grant.role().equals(name) && grant.privilege() == Privilege.OWN) {
        throw new EngineException(
            Code.IN_USE,
            "role " + name + " has made \"" + grant.on().name() + "\"",
            "DROP what it has made first");
      }
    }
    store.drop(name);
    Map<String, Role> roles = new LinkedHashMap<>(state.roles);
    roles.remove(name);
    Set<Grant> grants = new HashSet<>(state.grants);
    grants.removeIf(grant -> grant.role().equals(name));
    parts.remove(name);
    change(roles, grants);
  }

  /** Grants and revokes; answers how many were new, or had been there. */
  public synchronized int grant(List<Grant> added, List<Grant> removed) {
    Set<Grant> grants = new HashSet<>(state.grants);
    List<Grant> fresh = new ArrayList<>();
    List<Grant> gone = new ArrayList<>();
    for (Grant grant : added) {
      role(grant.role());
      if (grants.add(grant)) {
        fresh.add(grant);
      }
    }
    for (Grant grant : removed) {
      if (grants.remove(grant)) {
        gone.add(grant);
      }
    }
    if (!fresh.isEmpty() || !gone.isEmpty()) {
      store.grant(fresh, gone);
      change(state.roles, grants);
    }
    return fresh.size() + gone.size();
  }

  /** Something was made: it belongs to who made it. */
  public void made(Caller by, String name) {
    if (!by.isOwner()) {
      Target on = new Target(Target.PUBLIC, name);
      grant(List.of(new Grant(by.role(), Privilege.OWN, on)), List.of());
    }
  }

  /** Whatever was granted on what is no longer there goes too. */
  public synchronized void settle(Catalog catalog) {
    List<Grant> gone =
        state.grants.stream()
            .filter(g -> g.on().schema().equals(Target.PUBLIC) && g.on().name() != null)
            .filter(g -> catalog.find(g.on().name()) == null)
            .toList();
    grant(List.of(), gone);
  }

  void note(AccessStore.Entry entry) {
    store.note(entry);
  }

  /** Grants by role, for lists. */
  public Map<String, List<Grant>> byRole() {
    Map<String, List<Grant>> all = new HashMap<>();
    state.grants.forEach(g -> all.computeIfAbsent(g.role(), r -> new ArrayList<>()).add(g));
    return all;
  }

  /** The table of figures or the object that a name says; or null. */
  public static CatalogObject named(Catalog catalog, Target target) {
    return target.schema().equals(Target.DRIP)
        ? Figures.named(target.name())
        : catalog.find(target.name());
  }
}
