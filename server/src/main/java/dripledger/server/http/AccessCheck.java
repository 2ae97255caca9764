package dripledger.server.http;

import dripledger.engine.Engine;
import dripledger.engine.access.Caller;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.server.access.Limits;
import jakarta.servlet.http.HttpServletRequest;
import jakarta.servlet.http.HttpServletResponse;
import java.util.Map;
import org.springframework.http.HttpStatus;
import org.springframework.security.core.Authentication;
import org.springframework.security.core.context.SecurityContextHolder;
import org.springframework.stereotype.Component;
import org.springframework.web.ErrorResponseException;
import org.springframework.web.method.HandlerMethod;
import org.springframework.web.servlet.HandlerInterceptor;
import org.springframework.web.servlet.HandlerMapping;
import org.springframework.web.servlet.config.annotation.InterceptorRegistry;
import org.springframework.web.servlet.config.annotation.WebMvcConfigurer;

/**
 * Looks, once it is known what answers a request, whether its caller may ask that. What says
 * nothing of it is for the owner only.
 */
@Component
class AccessCheck implements HandlerInterceptor, WebMvcConfigurer {
  private final Engine engine;
  private final Limits limits;

  AccessCheck(Engine engine, Limits limits) {
    this.engine = engine;
    this.limits = limits;
  }

  @Override
  public void addInterceptors(InterceptorRegistry registry) {
    registry.addInterceptor(this).addPathPatterns("/api/**");
  }

  /** Who asks; null if nobody has proven to be anybody. */
  static Caller caller() {
    Authentication authentication = SecurityContextHolder.getContext().getAuthentication();
    return authentication != null && authentication.getPrincipal() instanceof Caller c ? c : null;
  }

  @Override
  public boolean preHandle(
      HttpServletRequest request, HttpServletResponse response, Object handler) {
    Caller caller = caller();
    if (caller == null || !(handler instanceof HandlerMethod method)) {
      return true; // what is open to all, which Security has decided
    }
    if (!limits.take(caller)) {
      response.setHeader("Retry-After", "1");
      ErrorResponseException often = new ErrorResponseException(HttpStatus.TOO_MANY_REQUESTS);
      often.setDetail("role " + caller.role() + " asks more often than it may");
      throw often;
    }
    Needs needs = method.getMethodAnnotation(Needs.class);
    if (needs != null) {
      CatalogObject object = engine.object(name(request), caller);
      caller.need(needs.value(), object);
    } else if (!method.hasMethodAnnotation(ForRoles.class) && !caller.isOwner()) {
      String what = request.getMethod() + " " + request.getRequestURI();
      throw caller.refused(null, "only the owner may " + what, null);
    }
    String query = request.getQueryString();
    caller.reads(
        request.getMethod() + " " + request.getRequestURI() + (query == null ? "" : "?" + query));
    return true;
  }

  private static String name(HttpServletRequest request) {
    if (request.getAttribute(HandlerMapping.URI_TEMPLATE_VARIABLES_ATTRIBUTE)
            instanceof Map<?, ?> variables
        && variables.get("name") instanceof String name) {
      return name;
    }
    throw new EngineException(EngineException.Code.INVALID, "the path has no name", null);
  }
}
