package dripledger.server.http;

import dripledger.engine.Engine;
import dripledger.engine.access.Access;
import dripledger.engine.access.Caller;
import dripledger.engine.access.Grant;
import dripledger.engine.access.Privilege;
import dripledger.engine.access.Role;
import dripledger.engine.access.Target;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.server.Settings;
import dripledger.server.access.Tokens;
import dripledger.server.records.PostgresAccess.Kept;
import java.time.Duration;
import java.time.Instant;
import java.time.temporal.ChronoUnit;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.springframework.http.CacheControl;
import org.springframework.http.ResponseEntity;
import org.springframework.security.core.annotation.AuthenticationPrincipal;
import org.springframework.web.bind.annotation.DeleteMapping;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.PostMapping;
import org.springframework.web.bind.annotation.RequestBody;
import org.springframework.web.bind.annotation.RestController;

/**
 * {@code /api/v1/shares}: one view, for a while, for somebody outside. A share is a role that may
 * read what is shared and nothing else, whose every read is in the journal, and a token of it.
 */
@RestController
class SharesController {
  private static final int MOST_DAYS = 3660;

  private final Engine engine;
  private final Access access;
  private final Tokens tokens;
  private final Settings settings;

  SharesController(Engine engine, Tokens tokens, Settings settings) {
    this.engine = engine;
    this.tokens = tokens;
    this.settings = settings;
    access = engine.access();
  }

  /** What to share. */
  record Wanted(String view, String with, Integer days) {}

  @PostMapping("/api/v1/shares")
  ResponseEntity<Map<String, Object>> share(
      @RequestBody Wanted wanted, @AuthenticationPrincipal Caller caller) {
    if (wanted.view() == null
        || wanted.with() == null
        || !wanted.with().matches("[a-z][a-z0-9_]{0,62}")) {
      throw new EngineException(
          Code.INVALID,
          "a share says which view and with whom: small letters, digits and underscores",
          "such as {\"view\": \"gate_load\", \"with\": \"fernway\", \"days\": 30}");
    }
    int days = wanted.days() == null ? 30 : wanted.days();
    if (days < 1 || days > MOST_DAYS) {
      throw new EngineException(Code.INVALID, "days are from 1 to " + MOST_DAYS, null);
    }
    CatalogObject view = engine.object(wanted.view(), caller);
    if (view instanceof CatalogObject.Connection || view instanceof CatalogObject.Sink) {
      throw new EngineException(
          Code.INVALID, view.aKind() + " cannot be shared", "share a view, a table or an endpoint");
    }
    Role role = new Role(wanted.with(), false, true, Role.Bounds.NONE);
    if (!access.create(role) && !access.role(role.name()).shared()) {
      throw new EngineException(
          Code.INVALID,
          "\"" + role.name() + "\" is a role of this house",
          "GRANT SELECT ON " + view.name() + " TO " + role.name() + " is for those");
    }
    Tokens.Made made =
        tokens.make(role.name(), tokenName(view), Duration.ofDays(days), caller.role());
    access.grant(List.of(grant(role.name(), view.name())), List.of());
    caller.note("share", view.name(), "with " + role.name() + " for " + days + " days");
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("view", view.name());
    answer.put("kind", view.kind());
    answer.put("with", role.name());
    answer.put("expires_at", made.kept().expires().truncatedTo(ChronoUnit.SECONDS).toString());
    answer.put("token", made.token());
    answer.put("wire_port", settings.wirePort());
    answer.put("database", settings.wireDatabase());
    return ResponseEntity.ok().cacheControl(CacheControl.noStore()).body(answer);
  }

  private static String tokenName(CatalogObject view) {
    return "share of " + view.name();
  }

  private static Grant grant(String role, String view) {
    return new Grant(role, Privilege.SELECT, new Target(Target.PUBLIC, view));
  }

  @GetMapping("/api/v1/shares")
  Map<String, Object> list() {
    Instant now = Instant.now();
    List<Map<String, Object>> shares = new ArrayList<>();
    for (Role role : access.roles()) {
      for (Grant grant : access.byRole().getOrDefault(role.name(), List.of())) {
        if (role.shared() && grant.privilege() == Privilege.SELECT) {
          shares.add(shown(role, grant, now));
        }
      }
    }
    return Map.of("shares", shares);
  }

  private Map<String, Object> shown(Role role, Grant grant, Instant now) {
    Map<String, Object> share = new LinkedHashMap<>();
    share.put("view", grant.on().text());
    share.put("with", role.name());
    Kept last = null;
    for (Kept kept : tokens.all()) {
      if (kept.role().equals(role.name()) && kept.name().equals("share of " + grant.on().name())) {
        last = kept;
      }
    }
    share.put("state", last == null ? "no token" : last.isGood(now) ? "open" : "over");
    share.put("expires_at", last == null || last.expires() == null ? null : text(last.expires()));
    Instant used = last == null ? null : tokens.used(last);
    share.put("used_at", used == null ? null : text(used));
    return share;
  }

  private static String text(Instant at) {
    return at.truncatedTo(ChronoUnit.SECONDS).toString();
  }

  /** Ends a share; the role goes with its last one. */
  @DeleteMapping("/api/v1/shares/{view}/{with}")
  Map<String, Object> end(
      @PathVariable String view,
      @PathVariable String with,
      @AuthenticationPrincipal Caller caller) {
    boolean shared = access.hasRole(with) && access.role(with).shared();
    if (!shared || access.grant(List.of(), List.of(grant(with, view))) == 0) {
      throw new EngineException(
          Code.NOT_FOUND,
          "\"" + view + "\" is not shared with " + with,
          "drip share lists what is");
    }
    for (Kept kept : tokens.good(with)) {
      if (kept.name().equals("share of " + view)) {
        tokens.revoke(kept.id());
      }
    }
    if (access.byRole().getOrDefault(with, List.of()).isEmpty()) {
      access.drop(with);
    }
    caller.note("share", view, "ended with " + with);
    return Map.of("ended", view, "with", with);
  }
}
