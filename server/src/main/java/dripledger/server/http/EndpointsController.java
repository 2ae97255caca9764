package dripledger.server.http;

import dripledger.connectors.format.JsonRows;
import dripledger.connectors.format.RowStream;
import dripledger.engine.Engine;
import dripledger.engine.access.Caller;
import dripledger.engine.access.Privilege;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.query.Endpoints;
import dripledger.engine.query.Result;
import jakarta.servlet.http.HttpServletRequest;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.security.MessageDigest;
import java.security.NoSuchAlgorithmException;
import java.util.Collections;
import java.util.HexFormat;
import java.util.LinkedHashMap;
import java.util.Map;
import java.util.TreeMap;
import org.springframework.http.CacheControl;
import org.springframework.http.HttpHeaders;
import org.springframework.http.HttpStatus;
import org.springframework.http.MediaType;
import org.springframework.http.ResponseEntity;
import org.springframework.security.core.annotation.AuthenticationPrincipal;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.RestController;
import org.springframework.web.util.UriComponentsBuilder;
import tools.jackson.core.JsonGenerator;
import tools.jackson.databind.json.JsonMapper;

/**
 * {@code GET /api/v1/endpoints/{name}?parameter=value}: calls an endpoint. The answer is JSON, or
 * what {@code Accept} or the name's ending asks for; its tag stays the same as long as its rows do.
 */
@RestController
class EndpointsController {
  private static final int KEPT_TAGS = 1000;

  private final Engine engine;
  private final JsonMapper mapper;
  private final ApiDescription description;
  private final Map<String, Tagged> tags =
      Collections.synchronizedMap(
          new LinkedHashMap<>(64, 0.75f, true) {
            private static final long serialVersionUID = 1L;

            @Override
            protected boolean removeEldestEntry(Map.Entry<String, Tagged> eldest) {
              return size() > KEPT_TAGS;
            }
          });

  /** The tag of an answer, and the last epoch that had changed anything it reads. */
  private record Tagged(long version, String tag) {
    /** Whether it is known without asking that the answer is the same. */
    boolean isStill(long now, String known) {
      return version == now && tag.equals(known);
    }
  }

  EndpointsController(Engine engine, JsonMapper mapper) {
    this.engine = engine;
    this.mapper = mapper;
    description = new ApiDescription(engine);
  }

  @GetMapping("/api/v1/endpoints/{name}")
  @ForRoles
  ResponseEntity<byte[]> call(
      @PathVariable String name, @AuthenticationPrincipal Caller caller, HttpServletRequest request)
      throws IOException {
    long began = System.nanoTime();
    int dot = name.lastIndexOf('.');
    String ending = dot < 0 ? "" : name.substring(dot + 1);
    RowStream.Format format = RowStream.Format.of(ending);
    boolean named = format != null || ending.equals("json");
    CatalogObject.Endpoint endpoint =
        engine.endpoints().endpoint(named ? name.substring(0, dot) : name, caller);
    if (!named) {
      format = accepted(request.getHeader(HttpHeaders.ACCEPT));
    }
    caller.need(Privilege.SELECT, endpoint);
    Map<String, String> given = parameters(request);
    String known = request.getHeader(HttpHeaders.IF_NONE_MATCH);
    String call = endpoint.id() + String.valueOf(format) + new TreeMap<>(given);
    // Before it is asked: what comes meanwhile must not have the tag of what was answered.
    long version = engine.endpoints().version(endpoint);
    Tagged last = tags.get(call);
    if (known != null && version >= 0 && last != null && last.isStill(version, known)) {
      return answer(HttpStatus.NOT_MODIFIED, known, engine.snapshot().epoch()).build();
    }
    Endpoints.Called called = engine.endpoints().call(endpoint, given, caller);
    Result.Rows rows = called.rows();
    String tag = tag(called, format);
    tags.put(call, new Tagged(version, tag));
    if (tag.equals(known)) {
      return answer(HttpStatus.NOT_MODIFIED, tag, rows.epoch()).build();
    }
    ResponseEntity.BodyBuilder answer =
        answer(HttpStatus.OK, tag, rows.epoch()).header("Drip-Rows-Read", "" + called.read());
    if (called.next() != null) {
      answer.header(HttpHeaders.LINK, "<" + next(request, called.next()) + ">; rel=\"next\"");
    }
    return format == null
        ? answer.contentType(MediaType.APPLICATION_JSON).body(json(called, began))
        : answer
            .header(HttpHeaders.CONTENT_TYPE, format.mediaType())
            .body(file(endpoint.name(), format, rows));
  }

  /** The address of the next page, as RFC 8288 has it. */
  private static String next(HttpServletRequest request, String next) {
    return UriComponentsBuilder.fromPath(request.getRequestURI())
        .query(request.getQueryString())
        .replaceQueryParam("after", next)
        .build(true)
        .toUriString();
  }

  private static ResponseEntity.BodyBuilder answer(HttpStatus status, String tag, long epoch) {
    return ResponseEntity.status(status)
        .eTag(tag)
        .cacheControl(CacheControl.noCache())
        .header("Vary", "Accept")
        .header("Drip-Epoch", "" + epoch);
  }

  private static Map<String, String> parameters(HttpServletRequest request) {
    Map<String, String> given = new LinkedHashMap<>();
    request
        .getParameterMap()
        .forEach(
            (name, values) -> {
              if (values.length > 1) {
                throw new EngineException(
                    Code.INVALID, "parameter \"" + name + "\" is given twice", null);
              }
              given.put(name, values[0]);
            });
    return given;
  }

  /** The first format named that there is; null for JSON. */
  private static RowStream.Format accepted(String accept) {
    for (String type : accept == null ? new String[0] : accept.split(",")) {
      String plain = type.replaceAll(";.*", "").strip();
      RowStream.Format format = RowStream.Format.of(plain);
      if (format != null || plain.equals(MediaType.APPLICATION_JSON_VALUE)) {
        return format;
      }
    }
    return null;
  }

  private byte[] json(Endpoints.Called called, long began) {
    Result.Rows rows = called.rows();
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    try (JsonGenerator json = mapper.createGenerator(out)) {
      json.writeStartObject();
      json.writeNumberProperty("epoch", rows.epoch());
      json.writeArrayPropertyStart("rows");
      rows.rows().forEach(row -> JsonRows.object(json, rows.columns(), row));
      json.writeEndArray();
      json.writeNumberProperty("count", rows.rows().size());
      if (called.next() != null) {
        json.writeStringProperty("next", called.next());
      }
      json.writeNumberProperty("rows_read", called.read());
      json.writeNumberProperty("elapsed_ms", (System.nanoTime() - began) / 1000 / 1e3);
      json.writeEndObject();
    }
    return out.toByteArray();
  }

  private static byte[] file(String name, RowStream.Format format, Result.Rows rows)
      throws IOException {
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    try (RowStream stream = RowStream.of(format, name, rows.columns(), out)) {
      for (Object[] row : rows.rows()) {
        stream.write(row);
      }
    }
    return out.toByteArray();
  }

  /** Of the rows and their form, so that it changes if and only if they do. */
  private static String tag(Endpoints.Called called, RowStream.Format format) {
    Result.Rows rows = called.rows();
    MessageDigest digest = digest();
    digest.update(String.valueOf(called.next()).getBytes(StandardCharsets.UTF_8));
    digest.update(String.valueOf(format).getBytes(StandardCharsets.UTF_8));
    for (Object[] row : rows.rows()) {
      digest.update(JsonRows.message(rows.columns(), row));
      digest.update((byte) '\n');
    }
    return '"' + HexFormat.of().formatHex(digest.digest(), 0, 12) + '"';
  }

  private static MessageDigest digest() {
    try {
      return MessageDigest.getInstance("SHA-256");
    } catch (NoSuchAlgorithmException e) {
      throw new IllegalStateException("every Java has SHA-256", e);
    }
  }

  /** What can be called, in the form of OpenAPI 3.1. */
  @GetMapping("/api/v1/openapi.json")
  @ForRoles
  Map<String, Object> openApi(@AuthenticationPrincipal Caller caller) {
    return description.document(caller);
  }
}
