package dripledger.server.http;

import dripledger.engine.access.Caller;
import dripledger.server.follow.Follows;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpServletResponse;
import java.io.IOException;
import org.springframework.security.core.annotation.AuthenticationPrincipal;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RequestHeader;
import org.springframework.web.bind.annotation.RequestParam;
import org.springframework.web.bind.annotation.RestController;

/**
 * {@code GET /api/v1/follow?sql=…}: server-sent events. {@code snapshot} is the whole answer,
 * {@code changes} what one epoch changed, {@code end} why nothing more comes. A client that comes
 * back with the id of the last event it has gets what changed since, or, if that is no longer kept,
 * a new snapshot: nothing can be missed.
 */
@RestController
class FollowController {
  private final Follows follows;

  FollowController(Follows follows) {
    this.follows = follows;
  }

  @GetMapping("/api/v1/follow")
  @ForRoles
  void follow(
      @RequestParam String sql,
      @RequestHeader(name = "Last-Event-ID", required = false) String lastId,
      @AuthenticationPrincipal Caller caller,
      HttpServletRequest request,
      HttpServletResponse response)
      throws IOException {
    try {
      follows.follow(sql, lastId, caller, request, response);
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
    }
  }
}
