package dripledger.engine.statement;

import dripledger.engine.access.Access;
import dripledger.engine.access.Caller;
import dripledger.engine.access.Grant;
import dripledger.engine.access.Privilege;
import dripledger.engine.access.Role;
import dripledger.engine.access.Target;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.sql.Command;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;

/** Carries CREATE, ALTER and DROP ROLE, GRANT and REVOKE out. */
final class RoleStatements {
  private final Access access;

  RoleStatements(Access access) {
    this.access = access;
  }

  /** Does it; answers what to say. */
  String create(Command.CreateRole command) {
    Role role = new Role(command.name(), false, false, with(Role.Bounds.NONE, command.bounds()));
    boolean first = !access.hasOthers();
    if (!access.create(role)) {
      if (!command.skip()) {
        throw new EngineException(
            Code.ALREADY_EXISTS, "there is a role \"" + command.name() + "\" already", null);
      }
      return "role " + command.name() + " is there already";
    }
    return "created role "
        + command.name()
        + (first ? "; from now on everybody has to say who it is, see drip login" : "");
  }

  String alter(Command.AlterRole command) {
    Role role = known(command.name());
    access.put(
        new Role(role.name(), role.owner(), role.shared(), with(role.bounds(), command.bounds())));
    return "changed role " + command.name();
  }

  String drop(Command.Drop command) {
    if (!access.hasRole(command.name()) && command.ifExists()) {
      return "there is no role \"" + command.name() + "\"";
    }
    known(command.name());
    access.drop(command.name());
    return "dropped role " + command.name() + ", with its grants and tokens";
  }

  String grant(Command.Grant command, Caller caller, Catalog catalog) {
    List<Grant> grants = new ArrayList<>();
    for (Map.Entry<Target, List<Privilege>> on : command.privileges().entrySet()) {
      if (on.getKey().name() == null || on.getKey().schema().equals(Target.DRIP)) {
        caller.needOwner("grant rights on schemas and figures");
      } else {
        caller.need(Privilege.OWN, Access.named(catalog, on.getKey()));
      }
      for (String role : command.roles()) {
        if (known(role).owner()) {
          throw new EngineException(
              Code.INVALID, "the owner may do everything; nothing is granted to it", null);
        }
        on.getValue().forEach(privilege -> grants.add(new Grant(role, privilege, on.getKey())));
      }
    }
    int changed =
        command.revoke() ? access.grant(List.of(), grants) : access.grant(grants, List.of());
    return (command.revoke() ? "revoked " : "granted ")
        + changed
        + (changed == 1 ? " right" : " rights")
        + (changed < grants.size()
            ? "; "
                + (grants.size() - changed)
                + (command.revoke() ? " had not been granted" : " had been granted before")
            : "");
  }

  private Role known(String name) {
    if (!access.hasRole(name)) {
      throw new EngineException(
          Code.NOT_FOUND, "no role \"" + name + "\"", "SHOW ROLES lists them");
    }
    return access.role(name);
  }

  private static Role.Bounds with(Role.Bounds b, Map<String, Long> given) {
    return new Role.Bounds(
        given.getOrDefault("statement_timeout", b.statementMillis()),
        given.getOrDefault("max_rows", b.maxRows()),
        given.getOrDefault("max_memory", b.maxMemory()),
        given.getOrDefault("max_body", b.maxBody()),
        given.getOrDefault("requests_per_second", b.perSecond()),
        given.getOrDefault("connections", b.connections()));
  }
}
