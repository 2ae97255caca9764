package dripledger.server.http;

import dripledger.engine.access.Caller;
import dripledger.engine.error.EngineException;
import dripledger.server.access.SignIns;
import dripledger.server.access.Tokens;
import dripledger.server.access.Trust;
import dripledger.server.records.PostgresAccess.Kept;
import jakarta.servlet.FilterChain;
import jakarta.servlet.ReadListener;
import jakarta.servlet.ServletException;
import jakarta.servlet.ServletInputStream;
import jakarta.servlet.http.Cookie;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpServletRequestWrapper;
import jakarta.servlet.http.HttpServletResponse;
import java.io.IOException;
import java.net.InetAddress;
import org.springframework.http.HttpHeaders;
import org.springframework.security.authentication.AbstractAuthenticationToken;
import org.springframework.security.core.authority.AuthorityUtils;
import org.springframework.security.core.context.SecurityContextHolder;
import org.springframework.security.core.context.SecurityContextImpl;
import org.springframework.web.filter.OncePerRequestFilter;

/**
 * Finds out who asks: by a token in {@code Authorization: Bearer}, by the cookie of somebody who
 * has signed in, or, where that is allowed, by being on this machine. A token that is no good is
 * never the same as none.
 */
final class TokenFilter extends OncePerRequestFilter {
  static final String COOKIE = "drip_session";
  private static final String BEARER = "Bearer ";

  private final Tokens tokens;
  private final SignIns signIns;
  private final Trust trust;

  TokenFilter(Tokens tokens, SignIns signIns, Trust trust) {
    this.tokens = tokens;
    this.signIns = signIns;
    this.trust = trust;
  }

  /** Somebody who is known. */
  static final class Known extends AbstractAuthenticationToken {
    private static final long serialVersionUID = 1L;

    private final transient Caller caller;

    Known(Caller caller) {
      super(
          caller.isOwner()
              ? AuthorityUtils.createAuthorityList("owner")
              : AuthorityUtils.NO_AUTHORITIES);
      this.caller = caller;
      setAuthenticated(true);
    }

    @Override
    public Object getCredentials() {
      return null;
    }

    @Override
    public Object getPrincipal() {
      return caller;
    }

    @Override
    public boolean equals(Object other) {
      return this == other;
    }

    @Override
    public int hashCode() {
      return System.identityHashCode(this);
    }
  }

  @Override
  protected boolean shouldNotFilterAsyncDispatch() {
    return true;
  }

  @Override
  protected void doFilterInternal(
      HttpServletRequest request, HttpServletResponse response, FilterChain chain)
      throws ServletException, IOException {
    Caller caller = caller(request);
    HttpServletRequest taken = request;
    if (caller != null) {
      SecurityContextHolder.setContext(new SecurityContextImpl(new Known(caller)));
      long most = caller.bounds().maxBody();
      if (most > 0 && request.getContentLengthLong() > most) {
        Security.problem(response, 413, "A bound was reached", tooLong(most));
        return;
      }
      if (most > 0) {
        taken = new Bounded(request, most);
      }
    }
    chain.doFilter(taken, response);
  }

  private static String tooLong(long most) {
    return "the request is longer than the " + most + " bytes that its role may send";
  }

  private Caller caller(HttpServletRequest request) throws IOException {
    String header = request.getHeader(HttpHeaders.AUTHORIZATION);
    String from = request.getRemoteAddr();
    if (header != null) {
      if (!header.regionMatches(true, 0, BEARER, 0, BEARER.length())) {
        return null;
      }
      Kept kept = tokens.find(header.substring(BEARER.length()).strip());
      return kept == null ? null : tokens.caller(kept, from);
    }
    Cookie[] cookies = request.getCookies();
    for (Cookie cookie : cookies == null ? new Cookie[0] : cookies) {
      if (cookie.getName().equals(COOKIE)) {
        Kept kept = signIns.find(cookie.getValue());
        if (kept != null) {
          return tokens.caller(kept, from);
        }
      }
    }
    return trust.unproven(InetAddress.getByName(from));
  }

  /** A request whose body may have so many bytes. */
  private static final class Bounded extends HttpServletRequestWrapper {
    private final long most;

    Bounded(HttpServletRequest request, long most) {
      super(request);
      this.most = most;
    }

    @Override
    public ServletInputStream getInputStream() throws IOException {
      return new Counted(super.getInputStream(), most);
    }
  }

  /** A body of more than it may have ends with an error. */
  private static final class Counted extends ServletInputStream {
    private final ServletInputStream in;
    private final long most;
    private long read;

    Counted(ServletInputStream in, long most) {
      this.in = in;
      this.most = most;
    }

    private int counted(int count) {
      read += Math.max(0, count);
      if (read > most) {
        throw new EngineException(EngineException.Code.LIMIT, tooLong(most));
      }
      return count;
    }

    @Override
    public int read() throws IOException {
      int one = in.read();
      counted(one < 0 ? 0 : 1);
      return one;
    }

    @Override
    public int read(byte[] bytes, int from, int length) throws IOException {
      return counted(in.read(bytes, from, length));
    }

    @Override
    public boolean isFinished() {
      return in.isFinished();
    }

    @Override
    public boolean isReady() {
      return in.isReady();
    }

    @Override
    public void setReadListener(ReadListener listener) {
      in.setReadListener(listener);
    }
  }
}
