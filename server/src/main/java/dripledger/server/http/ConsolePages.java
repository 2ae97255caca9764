package dripledger.server.http;

import jakarta.servlet.http.HttpServletRequest;
import java.io.IOException;
import java.time.Duration;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;
import org.springframework.core.io.ClassPathResource;
import org.springframework.core.io.Resource;
import org.springframework.http.CacheControl;
import org.springframework.http.MediaType;
import org.springframework.http.ResponseEntity;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.RestController;
import org.springframework.web.filter.ShallowEtagHeaderFilter;
import org.springframework.web.servlet.config.annotation.ResourceHandlerRegistry;
import org.springframework.web.servlet.config.annotation.WebMvcConfigurer;
import org.springframework.web.servlet.resource.PathResourceResolver;

/**
 * Serves the console: files with a hash in their name for a year, everything else checked each
 * time; paths of the console's own pages answer its index.
 */
@Configuration
class ConsolePages implements WebMvcConfigurer {
  /** The page itself; a forward would end the response before the tag filter has written it. */
  @RestController
  static final class Index {
    @GetMapping("/")
    ResponseEntity<Resource> index() {
      return ResponseEntity.ok()
          .cacheControl(CacheControl.noCache())
          .contentType(MediaType.TEXT_HTML)
          .body(new ClassPathResource("static/index.html"));
    }
  }

  @Override
  public void addResourceHandlers(ResourceHandlerRegistry registry) {
    registry
        .addResourceHandler("/assets/**")
        .addResourceLocations("classpath:/static/assets/")
        .setCacheControl(CacheControl.maxAge(Duration.ofDays(365)).immutable());
    registry
        .addResourceHandler("/**")
        .addResourceLocations("classpath:/static/")
        .setCacheControl(CacheControl.noCache())
        .setUseLastModified(false)
        .resourceChain(false)
        .addResolver(
            new PathResourceResolver() {
              @Override
              protected Resource getResource(String path, Resource location) throws IOException {
                Resource found = super.getResource(path, location);
                boolean page =
                    !path.contains(".")
                        && !path.startsWith("api/")
                        && !path.startsWith("actuator/");
                return found == null && page ? super.getResource("index.html", location) : found;
              }
            });
  }

  @Bean
  ShallowEtagHeaderFilter etags() {
    return new ShallowEtagHeaderFilter() {
      @Override
      protected boolean shouldNotFilter(HttpServletRequest request) {
        // Streams must not be gathered, and hashed assets need no tag.
        String path = request.getRequestURI();
        return path.startsWith("/api/")
            || path.startsWith("/assets/")
            || path.startsWith("/actuator/");
      }
    };
  }
}
