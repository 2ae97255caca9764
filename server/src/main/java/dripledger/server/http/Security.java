package dripledger.server.http;

import dripledger.engine.access.Access;
import dripledger.server.access.SignIns;
import dripledger.server.access.Tokens;
import dripledger.server.access.Trust;
import jakarta.servlet.DispatcherType;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpServletResponse;
import java.io.IOException;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;
import org.springframework.security.authentication.AuthenticationManager;
import org.springframework.security.authentication.ProviderNotFoundException;
import org.springframework.security.config.annotation.web.builders.HttpSecurity;
import org.springframework.security.config.annotation.web.configurers.AbstractHttpConfigurer;
import org.springframework.security.config.observation.SecurityObservationSettings;
import org.springframework.security.web.SecurityFilterChain;
import org.springframework.security.web.authentication.AnonymousAuthenticationFilter;
import org.springframework.security.web.context.NullSecurityContextRepository;
import org.springframework.security.web.firewall.FirewalledRequest;
import org.springframework.security.web.firewall.HttpFirewall;

/**
 * Which paths need somebody who is known. What somebody may is looked at by {@link AccessCheck}.
 * That a page of another site cannot act with the cookie of somebody who has signed in is seen to
 * by the cookie, which stays on its site, and by {@link SiteGuard}.
 */
@Configuration
class Security {
  @Bean
  SecurityFilterChain chain(
      HttpSecurity http, Access access, Tokens tokens, SignIns signIns, Trust trust)
      throws Exception {
    return http.csrf(AbstractHttpConfigurer::disable)
        .headers(AbstractHttpConfigurer::disable)
        .formLogin(AbstractHttpConfigurer::disable)
        .httpBasic(AbstractHttpConfigurer::disable)
        .logout(AbstractHttpConfigurer::disable)
        .requestCache(AbstractHttpConfigurer::disable)
        .sessionManagement(AbstractHttpConfigurer::disable)
        .securityContext(c -> c.securityContextRepository(new NullSecurityContextRepository()))
        .servletApi(AbstractHttpConfigurer::disable)
        .addFilterBefore(
            new TokenFilter(tokens, signIns, trust), AnonymousAuthenticationFilter.class)
        .authorizeHttpRequests(
            a ->
                a.dispatcherTypeMatchers(DispatcherType.ASYNC, DispatcherType.ERROR)
                    .permitAll()
                    .requestMatchers("/api/v1/sign-in")
                    .permitAll()
                    .requestMatchers("/api/**")
                    .authenticated()
                    .requestMatchers("/actuator/health/liveness", "/actuator/health/readiness")
                    .permitAll()
                    .requestMatchers("/actuator/**")
                    .hasAuthority("owner")
                    .anyRequest()
                    .permitAll())
        .exceptionHandling(
            e ->
                e.authenticationEntryPoint(
                        (request, response, why) -> unknown(access, request, response))
                    .accessDeniedHandler(
                        (request, response, why) ->
                            problem(response, 403, "Refused", "only the owner may read that")))
        .build();
  }

  /** They take a third of the time of a look-up; figures of our own are kept. */
  @Bean
  SecurityObservationSettings observations() {
    return SecurityObservationSettings.noObservations();
  }

  /** Nobody signs in with a user name here. */
  @Bean
  AuthenticationManager nobody() {
    return authentication -> {
      throw new ProviderNotFoundException("there are only tokens");
    };
  }

  /**
   * Paths are looked at by {@link PathGuard}, which lets keys have what the framework would not.
   */
  @Bean
  HttpFirewall firewall() {
    return new HttpFirewall() {
      @Override
      public FirewalledRequest getFirewalledRequest(HttpServletRequest request) {
        return new FirewalledRequest(request) {
          @Override
          public void reset() {
            // it is as it came
          }
        };
      }

      @Override
      public HttpServletResponse getFirewalledResponse(HttpServletResponse response) {
        return response;
      }
    };
  }

  private static void unknown(
      Access access, HttpServletRequest request, HttpServletResponse response) throws IOException {
    boolean said = request.getHeader("Authorization") != null;
    access
        .caller("nobody", "HTTP from " + request.getRemoteAddr())
        .note("refused", null, said ? "a token that is not good" : "no token");
    response.setHeader("WWW-Authenticate", "Bearer");
    problem(
        response,
        401,
        "Who are you?",
        said
            ? "the token is not known, or no longer good"
            : "send a token as Authorization: Bearer …, or sign in; drip login keeps one");
  }

  static void problem(HttpServletResponse response, int status, String title, String detail)
      throws IOException {
    response.setStatus(status);
    response.setContentType("application/problem+json;charset=UTF-8");
    response
        .getWriter()
        .write(
            "{\"status\":"
                + status
                + ",\"title\":\""
                + title
                + "\",\"detail\":\""
                + detail
                + "\"}");
  }
}
