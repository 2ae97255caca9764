package dripledger.server.http;

import dripledger.connectors.format.JsonRows;
import dripledger.engine.Engine;
import dripledger.engine.access.Caller;
import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.query.RunningScripts;
import dripledger.server.Settings;
import java.io.IOException;
import java.io.StringWriter;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.springframework.http.MediaType;
import org.springframework.http.ProblemDetail;
import org.springframework.http.ResponseEntity;
import org.springframework.security.core.annotation.AuthenticationPrincipal;
import org.springframework.web.bind.annotation.DeleteMapping;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.PostMapping;
import org.springframework.web.bind.annotation.RequestBody;
import org.springframework.web.bind.annotation.RestController;
import tools.jackson.core.JsonGenerator;
import tools.jackson.databind.json.JsonMapper;

/** {@code POST /api/v1/sql}: runs one or more statements. */
@RestController
class SqlController {
  private final Engine engine;
  private final Settings settings;
  private final JsonMapper mapper;

  SqlController(Engine engine, Settings settings, JsonMapper mapper) {
    this.engine = engine;
    this.settings = settings;
    this.mapper = mapper;
  }

  private static final int MAX_ID = 100;
  private static final int MAX_SHOWN = 1000; // characters of a script

  /**
   * The request; {@code args} holds the values of :name parameters. {@code id}, chosen by who sends
   * it, makes sure that its changes to tables are made once however often it is sent, and is what
   * it is cancelled by. Both may be missing.
   */
  record Script(String sql, Map<String, Object> args, String id) {}

  @PostMapping(path = "/api/v1/sql", consumes = MediaType.APPLICATION_JSON_VALUE)
  @ForRoles
  ResponseEntity<?> run(@RequestBody Script script, @AuthenticationPrincipal Caller caller)
      throws IOException {
    if (script.sql() == null) {
      throw new EngineException(
          EngineException.Code.INVALID,
          "the request has no \"sql\"",
          "send {\"sql\": \"SELECT …\"}");
    }
    if (script.sql().length() > settings.maxStatementBytes()) {
      throw new EngineException(
          EngineException.Code.LIMIT,
          "the script is longer than " + settings.maxStatementBytes() + " characters",
          "send it in parts");
    }
    if (script.id() != null && (script.id().isBlank() || script.id().length() > MAX_ID)) {
      throw new EngineException(
          EngineException.Code.INVALID, "an id has 1 to " + MAX_ID + " characters", null);
    }
    Map<String, Object> args = script.args() == null ? new HashMap<>() : script.args();
    StringWriter out = new StringWriter();
    int[] done = new int[1];
    try (JsonGenerator json = mapper.createGenerator(out)) {
      json.writeStartObject();
      json.writeArrayPropertyStart("results");
      long[] began = {System.nanoTime()};
      engine.execute(
          script.sql(),
          args,
          script.id(),
          caller,
          result -> {
            write(json, result, (System.nanoTime() - began[0]) / 1e6);
            began[0] = System.nanoTime();
            done[0]++;
          });
      json.writeEndArray();
      json.writeEndObject();
    } catch (EngineException e) {
      ProblemDetail problem = Problems.of(e);
      problem.setProperty("statements_done", done[0]);
      return ResponseEntity.status(problem.getStatus())
          .contentType(MediaType.APPLICATION_PROBLEM_JSON)
          .body(problem);
    }
    return ResponseEntity.ok().contentType(MediaType.APPLICATION_JSON).body(out.toString());
  }

  /** {@code GET /api/v1/sql}: the scripts that are being run, the longest first. */
  @GetMapping("/api/v1/sql")
  @ForRoles
  Map<String, Object> running(@AuthenticationPrincipal Caller caller) {
    List<Map<String, Object>> scripts = new ArrayList<>();
    for (RunningScripts.Script each : engine.scripts().all()) {
      if (!caller.isOwner() && !caller.role().equals(each.role())) {
        continue;
      }
      Map<String, Object> script = new LinkedHashMap<>();
      script.put("id", each.id());
      script.put("elapsed_ms", each.millis());
      String text = each.text();
      script.put("sql", text.length() > MAX_SHOWN ? text.substring(0, MAX_SHOWN) + "…" : text);
      scripts.add(script);
    }
    return Map.of("running", scripts);
  }

  /** {@code DELETE /api/v1/sql/{id}}: ends a script that is being run. */
  @DeleteMapping("/api/v1/sql/{*id}")
  @ForRoles
  Map<String, Object> cancel(@PathVariable String id, @AuthenticationPrincipal Caller caller) {
    boolean cancelled = engine.scripts().cancel(behindSlash(id), caller);
    if (cancelled) {
      caller.note("cancel", null, "statement " + behindSlash(id));
    }
    return Map.of("cancelled", cancelled);
  }

  private static String behindSlash(String path) {
    if (path.length() < 2) {
      throw new EngineException(EngineException.Code.INVALID, "the path has no id", null);
    }
    return path.substring(1);
  }

  /** {@code GET /api/v1/changes/{id}}: what became of a change whose answer did not come. */
  @GetMapping("/api/v1/changes/{*id}")
  @ForRoles
  Map<String, Object> outcome(@PathVariable String id) {
    long epoch = engine.outcome(behindSlash(id));
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("made", epoch >= 0);
    answer.put("epoch", epoch >= 0 ? epoch : engine.snapshot().epoch());
    return answer;
  }

  private static void write(JsonGenerator json, Result result, double elapsedMillis) {
    json.writeStartObject();
    if (result instanceof Result.Rows rows) {
      json.writeStringProperty("kind", "rows");
      JsonRows.columns(json, rows.columns());
      json.writeArrayPropertyStart("rows");
      for (Object[] row : rows.rows()) {
        JsonRows.array(json, rows.columns(), row);
      }
      json.writeEndArray();
      if (rows.note() != null) {
        json.writeStringProperty("note", rows.note());
      }
    } else {
      json.writeStringProperty("kind", "done");
      json.writeStringProperty("message", ((Result.Done) result).message());
    }
    json.writeNumberProperty("epoch", result.epoch());
    json.writeNumberProperty("elapsed_ms", Math.round(elapsedMillis * 1000) / 1000.0);
    json.writeEndObject();
  }
}
