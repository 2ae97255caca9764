package dripledger.server.http;

import dripledger.engine.access.Access;
import dripledger.server.Settings;
import dripledger.server.access.Tls;
import dripledger.server.access.Trust;
import jakarta.servlet.FilterChain;
import jakarta.servlet.ServletException;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpServletResponse;
import java.io.IOException;
import java.net.URI;
import java.util.List;
import java.util.Locale;
import org.springframework.beans.factory.annotation.Value;
import org.springframework.core.Ordered;
import org.springframework.core.annotation.Order;
import org.springframework.stereotype.Component;
import org.springframework.web.filter.OncePerRequestFilter;

/**
 * Keeps other web sites from using this service through a visitor's browser: a request that names
 * another host, or of which the browser says that another site makes it, is refused. Away from
 * loopback the service starts with TLS only.
 */
@Component
@Order(Ordered.HIGHEST_PRECEDENCE + 1)
class SiteGuard extends OncePerRequestFilter {
  private final List<String> hosts;
  private final boolean encrypted;

  SiteGuard(
      Settings settings,
      Access access,
      Tls tls,
      @Value("${server.address:127.0.0.1}") String address) {
    hosts = settings.hosts().stream().map(h -> h.toLowerCase(Locale.ROOT)).toList();
    encrypted = tls.isOn();
    if (!Trust.isLoopback(address)) {
      if (!access.hasOthers()) {
        throw new IllegalStateException(
            "server.address is "
                + address
                + " and there is no role but the owner: start the service on loopback, make one"
                + " (CREATE ROLE …; GRANT SELECT ON … TO …), then open it");
      }
      if (hosts.isEmpty()) {
        throw new IllegalStateException(
            "server.address is "
                + address
                + ": drip.hosts must say by which names this machine is called from elsewhere");
      }
    }
  }

  @Override
  protected void doFilterInternal(
      HttpServletRequest request, HttpServletResponse response, FilterChain chain)
      throws ServletException, IOException {
    String origin = request.getHeader("Origin");
    String site = request.getHeader("Sec-Fetch-Site");
    boolean elsewhere = site != null && !site.equals("same-origin") && !site.equals("none");
    if (!isOurs(request.getServerName())
        || elsewhere
        || origin != null && !sameSite(origin, request)) {
      Security.problem(response, 403, "Refused", "the request comes from another site");
      return;
    }
    response.setHeader("X-Content-Type-Options", "nosniff");
    response.setHeader("Referrer-Policy", "no-referrer");
    response.setHeader("Cross-Origin-Opener-Policy", "same-origin");
    response.setHeader("Cross-Origin-Resource-Policy", "same-origin");
    response.setHeader(
        "Content-Security-Policy",
        "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self'"
            + " data:; object-src 'none'; base-uri 'none'; form-action 'self';"
            + " frame-ancestors 'none'");
    if (encrypted) {
      response.setHeader("Strict-Transport-Security", "max-age=31536000");
    }
    chain.doFilter(request, response);
  }

  private boolean isOurs(String host) {
    return Trust.isLoopback(host) || hosts.contains(host.toLowerCase(Locale.ROOT));
  }

  private boolean sameSite(String origin, HttpServletRequest request) {
    try {
      URI uri = URI.create(origin);
      int port = uri.getPort() >= 0 ? uri.getPort() : "https".equals(uri.getScheme()) ? 443 : 80;
      return uri.getHost() != null && isOurs(uri.getHost()) && port == request.getServerPort();
    } catch (IllegalArgumentException e) {
      return false;
    }
  }
}
