package dripledger.server.http;

import jakarta.servlet.FilterChain;
import jakarta.servlet.ServletException;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpServletResponse;
import java.io.IOException;
import java.net.URI;
import java.util.Set;
import org.springframework.beans.factory.annotation.Value;
import org.springframework.stereotype.Component;
import org.springframework.web.filter.OncePerRequestFilter;

/**
 * Bound to loopback, the service trusts who is on the machine, but not the web pages in their
 * browser: a request whose Host is not a loopback name (rebinding), whose Origin is another site,
 * or of which the browser says that another site makes it, is refused. It does not start elsewhere.
 */
@Component
class LoopbackGuard extends OncePerRequestFilter {
  private static final Set<String> LOOPBACK = Set.of("127.0.0.1", "localhost", "::1", "[::1]");

  LoopbackGuard(@Value("${server.address:127.0.0.1}") String address) {
    if (!LOOPBACK.contains(address)) {
      throw new IllegalStateException(
          "server.address is "
              + address
              + ", and whoever can reach that could read and change everything: the service listens"
              + " on loopback only. Let what needs it from elsewhere come through a tunnel");
    }
  }

  @Override
  protected void doFilterInternal(
      HttpServletRequest request, HttpServletResponse response, FilterChain chain)
      throws ServletException, IOException {
    String origin = request.getHeader("Origin");
    boolean host = LOOPBACK.contains(request.getServerName());
    String site = request.getHeader("Sec-Fetch-Site");
    boolean elsewhere = site != null && !site.equals("same-origin") && !site.equals("none");
    if (!host || elsewhere || origin != null && !sameSite(origin, request)) {
      response.setStatus(HttpServletResponse.SC_FORBIDDEN);
      response.setContentType("application/problem+json");
      response
          .getWriter()
          .write(
              "{\"status\":403,\"title\":\"Refused\",\"detail\":\"the request comes from another"
                  + " site\"}");
      return;
    }
    response.setHeader("X-Content-Type-Options", "nosniff");
    response.setHeader("Referrer-Policy", "no-referrer");
    response.setHeader(
        "Content-Security-Policy",
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'"
            + " data:; frame-ancestors 'none'");
    chain.doFilter(request, response);
  }

  private static boolean sameSite(String origin, HttpServletRequest request) {
    try {
      URI uri = URI.create(origin);
      return LOOPBACK.contains(String.valueOf(uri.getHost()))
          && uri.getPort() == request.getServerPort();
    } catch (IllegalArgumentException e) {
      return false;
    }
  }
}
