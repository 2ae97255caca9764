package dripledger.server.http;

import jakarta.servlet.FilterChain;
import jakarta.servlet.ServletException;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpServletResponse;
import java.io.IOException;
import org.apache.tomcat.util.buf.EncodedSolidusHandling;
import org.springframework.boot.tomcat.servlet.TomcatServletWebServerFactory;
import org.springframework.boot.web.server.WebServerFactoryCustomizer;
import org.springframework.core.Ordered;
import org.springframework.core.annotation.Order;
import org.springframework.stereotype.Component;
import org.springframework.web.filter.OncePerRequestFilter;

/**
 * Takes paths at their word: a semicolon in one is refused and not cut off with what is behind it,
 * and a slash that is written {@code %2F} is part of a key.
 */
@Component
@Order(Ordered.HIGHEST_PRECEDENCE)
class PathGuard extends OncePerRequestFilter
    implements WebServerFactoryCustomizer<TomcatServletWebServerFactory> {
  @Override
  public void customize(TomcatServletWebServerFactory factory) {
    factory.addConnectorCustomizers(
        connector ->
            connector.setEncodedSolidusHandling(EncodedSolidusHandling.PASS_THROUGH.getValue()));
  }

  @Override
  protected void doFilterInternal(
      HttpServletRequest request, HttpServletResponse response, FilterChain chain)
      throws ServletException, IOException {
    String path = request.getRequestURI();
    String wrong =
        path.indexOf(';') >= 0
            ? "a path with a semicolon; one in a name or a key is written %3B"
            : isBroken(path) ? "a path with a % that two digits do not follow" : null;
    if (wrong == null) {
      chain.doFilter(request, response);
      return;
    }
    response.setStatus(HttpServletResponse.SC_BAD_REQUEST);
    response.setContentType("application/problem+json");
    response
        .getWriter()
        .write("{\"status\":400,\"title\":\"Refused\",\"detail\":\"" + wrong + "\"}");
  }

  private static boolean isBroken(String path) {
    for (int at = path.indexOf('%'); at >= 0; at = path.indexOf('%', at + 1)) {
      if (at + 2 >= path.length()
          || Character.digit(path.charAt(at + 1), 16) < 0
          || Character.digit(path.charAt(at + 2), 16) < 0) {
        return true;
      }
    }
    return false;
  }
}
