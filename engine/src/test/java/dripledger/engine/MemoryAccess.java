package dripledger.engine;

import dripledger.engine.access.AccessStore;
import dripledger.engine.access.Grant;
import dripledger.engine.access.Role;
import java.time.LocalDateTime;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;

/** Roles, grants and the journal in memory; without tokens. */
public final class MemoryAccess implements AccessStore {
  private final Map<String, Role> roles = new LinkedHashMap<>();
  private final List<Grant> grants = new ArrayList<>();
  private final List<Noted> journal = new ArrayList<>();

  @Override
  public synchronized List<Role> roles() {
    return List.copyOf(roles.values());
  }

  @Override
  public synchronized List<Grant> grants() {
    return List.copyOf(grants);
  }

  @Override
  public synchronized void put(Role role) {
    roles.put(role.name(), role);
  }

  @Override
  public synchronized void drop(String role) {
    roles.remove(role);
    grants.removeIf(g -> g.role().equals(role));
  }

  @Override
  public synchronized void grant(List<Grant> added, List<Grant> removed) {
    grants.addAll(added);
    grants.removeAll(removed);
  }

  @Override
  public List<Token> tokens() {
    return List.of();
  }

  @Override
  public synchronized void note(Entry entry) {
    journal.add(new Noted(LocalDateTime.of(2026, 3, 2, 6, 0), entry, 1));
  }

  @Override
  public synchronized List<Noted> journal() {
    return List.copyOf(journal);
  }
}
