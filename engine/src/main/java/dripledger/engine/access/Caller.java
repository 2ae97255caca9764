package dripledger.engine.access;

import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import java.util.function.BooleanSupplier;

/**
 * Somebody as a role, for one request or connection. What the role may is asked anew each time, so
 * that what is revoked is gone at once. Safe from any thread.
 */
public final class Caller {
  private final Access access;
  private final String role;
  private final String via;
  private final BooleanSupplier good;

  Caller(Access access, String role, String via, BooleanSupplier good) {
    this.access = access;
    this.good = good;
    this.role = role;
    this.via = via;
  }

  /** The role's name. */
  public String role() {
    return role;
  }

  /** How it came, for the journal; or null. */
  public String via() {
    return via;
  }

  /** Whether it still is who it was: a token may have been revoked, a role dropped. */
  public boolean isGood() {
    return access.hasRole(role) && good.getAsBoolean();
  }

  /** Whether it may do everything. */
  public boolean isOwner() {
    return access.role(role).owner();
  }

  /** What it may use at most. */
  public Role.Bounds bounds() {
    return access.role(role).bounds();
  }

  /** The part of the catalog that it sees; the same one as long as nothing changes. */
  public Catalog catalog(Catalog whole) {
    return access.part(role, whole);
  }

  public boolean may(Privilege privilege, CatalogObject object) {
    return access.may(role, privilege, object);
  }

  /** Whether it may make things. */
  public boolean mayCreate() {
    return access.mayCreate(role);
  }

  /**
   * Goes on if that is allowed.
   *
   * @throws EngineException (FORBIDDEN) if it is not, which is noted
   */
  public void need(Privilege privilege, CatalogObject object) {
    if (!may(privilege, object)) {
      throw refused(
          object.name(),
          privilege == Privilege.OWN
              ? "only its owner may do that with " + object.aKind()
              : "\"" + object.name() + "\" does not allow " + privilege + " to role " + role,
          privilege == Privilege.OWN
              ? null
              : "its owner can GRANT " + privilege + " ON " + object.name() + " TO " + role);
    }
  }

  /** Goes on if it may make things. */
  public void needCreate() {
    if (!mayCreate()) {
      throw refused(
          null,
          "role " + role + " may not make things",
          "the owner can GRANT CREATE ON SCHEMA public TO " + role);
    }
  }

  /** Goes on if it may do everything. */
  public void needOwner(String what) {
    if (!isOwner()) {
      throw refused(null, "only the owner may " + what, null);
    }
  }

  /** Notes that something was not allowed, and is what to throw. */
  public EngineException refused(String object, String message, String hint) {
    note("refused", object, message);
    return new EngineException(EngineException.Code.FORBIDDEN, message, hint);
  }

  /** Notes in the journal what it has done. */
  public void note(String what, String object, String detail) {
    access.note(new AccessStore.Entry(role, via, what, object, detail));
  }

  /** Notes what it reads, if it is somebody outside. */
  public void reads(String what) {
    if (access.role(role).shared()) {
      note("read", null, what);
    }
  }
}
