package dripledger.server.http;

import dripledger.engine.access.Access;
import dripledger.engine.access.AccessStore;
import dripledger.engine.access.Caller;
import dripledger.engine.catalog.Retention;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.server.access.Tokens;
import java.time.Duration;
import java.time.Instant;
import java.time.temporal.ChronoUnit;
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
 * {@code /api/v1/tokens}: what roles prove themselves by. The owner sees to all of them; a role can
 * list, rotate and revoke its own. A token is in an answer once, when it is made.
 */
@RestController
class TokensController {
  private final Access access;
  private final Tokens tokens;

  TokensController(Access access, Tokens tokens) {
    this.access = access;
    this.tokens = tokens;
  }

  /** A token to make; {@code lasts} is a time such as {@code 30 days}, null for ever. */
  record Wanted(String role, String name, String lasts) {}

  /** {@code overlap}: for how long the old one stays good, a day if it is null. */
  record Rotation(String overlap, String lasts) {}

  @GetMapping("/api/v1/tokens")
  @ForRoles
  Map<String, Object> list(@AuthenticationPrincipal Caller caller) {
    List<Map<String, Object>> all =
        tokens.all().stream()
            .filter(k -> caller.isOwner() || k.role().equals(caller.role()))
            .map(this::shown)
            .toList();
    return Map.of("tokens", all);
  }

  private Map<String, Object> shown(dripledger.server.records.PostgresAccess.Kept kept) {
    Instant now = Instant.now();
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("id", kept.id());
    answer.put("role", kept.role());
    answer.put("name", kept.name());
    answer.put(
        "state", kept.isGood(now) ? "valid" : kept.revoked() != null ? "revoked" : "expired");
    answer.put("made_at", time(kept.made()));
    answer.put("made_by", kept.madeBy());
    answer.put("expires_at", time(kept.expires()));
    answer.put("used_at", time(tokens.used(kept)));
    return answer;
  }

  private static String time(Instant at) {
    return at == null ? null : at.truncatedTo(ChronoUnit.SECONDS).toString();
  }

  /** A time such as {@code 30 days}; null for ever. */
  static Duration lasts(String text) {
    if (text == null || text.isBlank() || text.equals("forever")) {
      return null;
    }
    long micros = Retention.span(text);
    if (micros <= 0) {
      throw new EngineException(
          Code.INVALID, "\"" + text + "\" is not a time", "write one such as '30 days'");
    }
    return Duration.of(micros, ChronoUnit.MICROS);
  }

  @PostMapping("/api/v1/tokens")
  ResponseEntity<Map<String, Object>> make(
      @RequestBody Wanted wanted, @AuthenticationPrincipal Caller caller) {
    if (wanted.role() == null || !access.hasRole(wanted.role())) {
      throw new EngineException(
          Code.NOT_FOUND,
          "no role \"" + wanted.role() + "\"",
          "CREATE ROLE makes one, SHOW ROLES lists them");
    }
    Tokens.Made made =
        tokens.make(wanted.role(), wanted.name(), lasts(wanted.lasts()), caller.role());
    caller.note("token", wanted.role(), "made \"" + wanted.name() + "\"");
    return once(made);
  }

  private ResponseEntity<Map<String, Object>> once(Tokens.Made made) {
    Map<String, Object> answer = shown(made.kept());
    answer.put("token", made.token());
    return ResponseEntity.ok().cacheControl(CacheControl.noStore()).body(answer);
  }

  private void needOwn(long id, Caller caller) {
    if (!caller.isOwner() && !tokens.token(id).role().equals(caller.role())) {
      throw caller.refused(null, "only the owner may do that with tokens of others", null);
    }
  }

  @PostMapping("/api/v1/tokens/{id}/rotate")
  @ForRoles
  ResponseEntity<Map<String, Object>> rotate(
      @PathVariable long id,
      @RequestBody Rotation rotation,
      @AuthenticationPrincipal Caller caller) {
    needOwn(id, caller);
    Duration overlap =
        rotation.overlap() == null
            ? Duration.ofDays(1)
            : rotation.overlap().equals("0") ? Duration.ZERO : lasts(rotation.overlap());
    if (overlap == null) {
      throw new EngineException(Code.INVALID, "the old one has to end", "say when, or 0");
    }
    Duration lasts = lasts(rotation.lasts());
    Instant end = tokens.token(id).expires();
    if (!caller.isOwner() && end != null) { // nobody prolongs what the owner has bounded
      Duration left = Duration.between(Instant.now(), end);
      lasts = lasts == null || lasts.compareTo(left) > 0 ? left : lasts;
    }
    Tokens.Made made = tokens.rotate(id, overlap, lasts, caller.role());
    caller.note("token", made.kept().role(), "rotated \"" + made.kept().name() + "\"");
    return once(made);
  }

  @DeleteMapping("/api/v1/tokens/{id}")
  @ForRoles
  Map<String, Object> revoke(@PathVariable long id, @AuthenticationPrincipal Caller caller) {
    needOwn(id, caller);
    tokens.revoke(id);
    caller.note("token", tokens.token(id).role(), "revoked \"" + tokens.token(id).name() + "\"");
    return Map.of("revoked", id);
  }

  /** What was done, by whom, the last first. */
  @GetMapping("/api/v1/journal")
  Map<String, Object> journal() {
    List<AccessStore.Noted> all = access.store().journal();
    List<Map<String, Object>> shown = new java.util.ArrayList<>();
    for (int i = all.size() - 1; i >= Math.max(0, all.size() - 1000); i--) {
      AccessStore.Noted noted = all.get(i);
      Map<String, Object> entry = new LinkedHashMap<>();
      entry.put("at", noted.at().truncatedTo(ChronoUnit.SECONDS) + "Z");
      entry.put("role", noted.entry().role());
      entry.put("via", noted.entry().via());
      entry.put("what", noted.entry().what());
      entry.put("object", noted.entry().object());
      entry.put("detail", noted.entry().detail());
      entry.put("times", noted.times());
      shown.add(entry);
    }
    return Map.of("journal", shown);
  }
}
