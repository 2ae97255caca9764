package dripledger.server.access;

import dripledger.engine.access.Access;
import dripledger.engine.access.Caller;
import java.net.InetAddress;
import java.util.Set;

/**
 * Who may come without a token: from this machine, as the owner, as long as there is nobody else or
 * if the service is told so. Immutable but for the roles.
 */
public final class Trust {
  private static final Set<String> LOOPBACK = Set.of("127.0.0.1", "localhost", "::1", "[::1]");

  private final Access access;
  private final Mode mode;
  private final boolean loopback;

  /** How long whoever is on this machine is trusted. */
  public enum Mode {
    UNTIL_ROLES,
    ALWAYS,
    NEVER
  }

  /**
   * @param address where the service listens
   */
  public Trust(Access access, Mode mode, String address) {
    this.access = access;
    this.mode = mode;
    loopback = isLoopback(address);
  }

  /** Whether an address or name is this machine's own. */
  public static boolean isLoopback(String address) {
    return LOOPBACK.contains(address);
  }

  /** Whether the service listens on loopback only. */
  public boolean listensOnLoopback() {
    return loopback;
  }

  /** Whether somebody may come without a token now. */
  public boolean isOpen() {
    return loopback && (mode == Mode.ALWAYS || mode == Mode.UNTIL_ROLES && !access.hasOthers());
  }

  /** As who somebody comes that says nothing; null if that will not do. */
  public Caller unproven(InetAddress from) {
    return isOpen() && from.isLoopbackAddress()
        ? access.caller("owner", "this machine", this::isOpen)
        : null;
  }
}
