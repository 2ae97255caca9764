package dripledger.server.http;

import dripledger.connectors.format.Formats;
import dripledger.engine.Engine;
import dripledger.engine.access.Privilege;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.catalog.Retention;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.Casts;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.source.Listing;
import dripledger.engine.source.Proposal;
import dripledger.engine.source.RawMessage;
import dripledger.engine.sql.ProposedDefinition;
import java.nio.ByteBuffer;
import java.nio.charset.CharacterCodingException;
import java.nio.charset.StandardCharsets;
import java.util.Base64;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.springframework.web.bind.annotation.GetMapping;
import org.springframework.web.bind.annotation.PathVariable;
import org.springframework.web.bind.annotation.PostMapping;
import org.springframework.web.bind.annotation.RequestBody;
import org.springframework.web.bind.annotation.RequestParam;
import org.springframework.web.bind.annotation.RestController;

/**
 * {@code /api/v1/connections/{name}}: looking before declaring. What is behind a connection, raw
 * messages, the columns a sample proposes; and making topics.
 */
@RestController
class ConnectionsController {
  private static final int MAX_PEEK = 1000;

  private final Engine engine;

  ConnectionsController(Engine engine) {
    this.engine = engine;
  }

  @GetMapping("/api/v1/connections/{name}")
  @Needs(Privilege.USAGE)
  Map<String, Object> list(@PathVariable String name) {
    CatalogObject.Connection connection = engine.connection(name);
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("name", connection.name());
    answer.put("type", connection.type());
    answer.put(
        "sources",
        engine.connectors().list(connection).stream().map(ConnectionsController::listing).toList());
    return answer;
  }

  private static Map<String, Object> listing(Listing l) {
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("name", l.name());
    answer.put("kind", l.kind());
    answer.put("partitions", l.partitions());
    answer.put("messages", l.messages() < 0 ? null : l.messages());
    answer.put("bytes", l.bytes() < 0 ? null : l.bytes());
    answer.put("per_second", l.perSecond() < 0 ? null : Math.round(l.perSecond() * 10) / 10.0);
    answer.put("key", l.key());
    answer.put("note", l.note());
    return answer;
  }

  /** {@code from} is earliest, latest or an ISO timestamp. */
  @GetMapping("/api/v1/connections/{name}/peek")
  @Needs(Privilege.USAGE)
  Map<String, Object> peek(
      @PathVariable String name,
      @RequestParam("source") String source,
      @RequestParam(name = "from", defaultValue = "latest") String from,
      @RequestParam(name = "count", defaultValue = "10") int count) {
    if (count < 1 || count > MAX_PEEK) {
      throw new EngineException(Code.INVALID, "count is from 1 to " + MAX_PEEK, null);
    }
    List<RawMessage> messages =
        engine.connectors().peek(engine.connection(name), source, from, count);
    return Map.of("messages", messages.stream().map(ConnectionsController::message).toList());
  }

  private static Map<String, Object> message(RawMessage m) {
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("partition", m.partition());
    answer.put("position", m.position());
    answer.put("time", m.time() == null ? null : Casts.isoTimestamp(BoxedRows.micros(m.time())));
    answer.put("key", text(m.key()));
    answer.put("headers", m.headers());
    answer.put("format", Formats.recognise(m.value()));
    String value = text(m.value());
    answer.put("value", value);
    if (value == null && m.value() != null) {
      answer.put("value_base64", Base64.getEncoder().encodeToString(m.value()));
    }
    return answer;
  }

  /** Bytes as text, or null if they are none. */
  private static String text(byte[] bytes) {
    if (bytes == null) {
      return null;
    }
    try {
      return StandardCharsets.UTF_8.newDecoder().decode(ByteBuffer.wrap(bytes)).toString();
    } catch (CharacterCodingException e) {
      return null;
    }
  }

  /**
   * What to declare: {@code kind} is stream or table; {@code flat} asks for a column for each field
   * of objects inside.
   */
  record Wanted(
      String name, String kind, Map<String, String> options, String format, Boolean flat) {}

  @PostMapping("/api/v1/connections/{name}/propose")
  @Needs(Privilege.USAGE)
  Map<String, Object> propose(@PathVariable String name, @RequestBody Wanted wanted) {
    CatalogObject.Connection connection = engine.connection(name);
    SourceSpec source =
        new SourceSpec(
            connection.name(),
            connection.id(),
            wanted.options() == null ? Map.of() : wanted.options(),
            wanted.format());
    boolean table = "table".equals(wanted.kind());
    ProposedDefinition proposed =
        engine.propose(
            wanted.name() == null ? "unnamed" : wanted.name(),
            source,
            table,
            Boolean.TRUE.equals(wanted.flat()));
    Map<String, Object> answer = new LinkedHashMap<>();
    Proposal proposal = proposed.proposal();
    answer.put("sampled", proposal.sampled());
    answer.put("unread", proposal.unread());
    answer.put("event_time", proposal.eventTime());
    answer.put("key", proposal.key());
    answer.put("columns", proposal.columns().stream().map(this::column).toList());
    answer.put("sql", proposed.sql());
    return answer;
  }

  private Map<String, Object> column(Proposal.Proposed p) {
    Map<String, Object> answer = new LinkedHashMap<>();
    answer.put("name", p.column().name());
    answer.put("type", p.column().type().sql());
    answer.put("path", p.path() == null ? null : Origins.text(p.path()));
    answer.put("nullable", p.column().type().nullable());
    answer.put("example", p.example());
    answer.put("missing", p.missing());
    answer.put("conflict", p.conflict());
    return answer;
  }

  /** A topic to make; {@code retain} is a time such as {@code 7 days}, or null for the broker's. */
  record Topic(String name, Integer partitions, String retain) {}

  @PostMapping("/api/v1/connections/{name}/topics")
  @Needs(Privilege.OWN)
  Map<String, Object> createTopic(@PathVariable String name, @RequestBody Topic topic) {
    if (topic.name() == null || topic.name().isBlank()) {
      throw new EngineException(Code.INVALID, "the topic has no name", null);
    }
    Long millis = null;
    if (topic.retain() != null) {
      try {
        long micros = Retention.micros(topic.retain());
        millis = micros == Retention.FOREVER ? -1 : micros / 1000;
      } catch (IllegalArgumentException e) {
        throw new EngineException(Code.INVALID, e.getMessage(), Retention.HINT);
      }
    }
    int partitions = topic.partitions() == null ? 1 : topic.partitions();
    engine.connectors().createTopic(engine.connection(name), topic.name(), partitions, millis);
    return Map.of("created", topic.name(), "partitions", partitions);
  }
}
