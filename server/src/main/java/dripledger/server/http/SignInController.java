package dripledger.server.http;

import dripledger.engine.access.Access;
import dripledger.engine.access.Caller;
import dripledger.engine.access.Grant;
import dripledger.server.access.SignIns;
import dripledger.server.access.Tls;
import dripledger.server.access.Tokens;
import dripledger.server.access.Trust;
import dripledger.server.records.PostgresAccess.Kept;
import jakarta.servlet.http.HttpServletRequest;
import java.util.LinkedHashMap;
import java.util.Map;
import org.springframework.http.HttpHeaders;
import org.springframework.http.HttpStatus;
import org.springframework.http.ResponseCookie;
import org.springframework.http.ResponseEntity;
import org.springframework.web.ErrorResponseException;
import org.springframework.web.bind.annotation.CookieValue;
import org.springframework.web.bind.annotation.DeleteMapping;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PostMapping;
import org.springframework.web.bind.annotation.RequestBody;
import org.springframework.web.bind.annotation.RestController;

/** {@code /api/v1/sign-in}: signing in with a browser; who somebody is, and may do. */
@RestController
class SignInController {
  private static final String PATH = "/api";

  private final Access access;
  private final Tokens tokens;
  private final SignIns signIns;
  private final Trust trust;
  private final Tls tls;

  SignInController(Access access, Tokens tokens, SignIns signIns, Trust trust, Tls tls) {
    this.access = access;
    this.tokens = tokens;
    this.signIns = signIns;
    this.trust = trust;
    this.tls = tls;
  }

  /** The body of a POST. */
  record Proof(String token) {}

  @PostMapping("/api/v1/sign-in")
  @ForRoles
  ResponseEntity<Map<String, Object>> signIn(@RequestBody Proof proof, HttpServletRequest request) {
    Kept kept = proof.token() == null ? null : tokens.find(proof.token().strip());
    if (kept == null) {
      access.caller("nobody", request.getRemoteAddr()).note("refused", null, "sign-in");
      ErrorResponseException refused = new ErrorResponseException(HttpStatus.UNAUTHORIZED);
      refused.setDetail("the token is not known, or no longer good");
      throw refused;
    }
    Caller caller = tokens.caller(kept, request.getRemoteAddr());
    caller.note("sign-in", null, "console");
    return ResponseEntity.ok()
        .header(
            HttpHeaders.SET_COOKIE,
            cookie(signIns.begin(kept)).maxAge(SignIns.LASTS).build().toString())
        .body(who(caller));
  }

  private ResponseCookie.ResponseCookieBuilder cookie(String value) {
    return ResponseCookie.from(TokenFilter.COOKIE, value)
        .httpOnly(true)
        .secure(tls.isOn())
        .sameSite("Strict")
        .path(PATH);
  }

  @DeleteMapping("/api/v1/sign-in")
  @ForRoles
  ResponseEntity<Map<String, Object>> signOut(
      @CookieValue(name = TokenFilter.COOKIE, required = false) String id) {
    if (id != null) {
      signIns.end(id);
    }
    return ResponseEntity.ok()
        .header(HttpHeaders.SET_COOKIE, cookie("").maxAge(0).build().toString())
        .body(Map.of("signed_out", true));
  }

  /** Who asks; {@code role} is null if that is not known, so that one has to sign in. */
  @GetMapping("/api/v1/sign-in")
  @ForRoles
  Map<String, Object> whoAmI() {
    Caller caller = AccessCheck.caller();
    if (caller == null) {
      Map<String, Object> answer = new LinkedHashMap<>();
      answer.put("role", null);
      return answer;
    }
    return who(caller);
  }

  private Map<String, Object> who(Caller caller) {
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("role", caller.role());
    answer.put("owner", caller.isOwner());
    answer.put("via", caller.via());
    answer.put("open", trust.isOpen());
    answer.put(
        "grants",
        access.byRole().getOrDefault(caller.role(), java.util.List.of()).stream()
            .map(SignInController::grant)
            .toList());
    return answer;
  }

  private static String grant(Grant grant) {
    return grant.privilege() + " ON " + grant.on().text();
  }
}
