package dripledger.server.http;

import dripledger.connectors.format.JsonRows;
import dripledger.connectors.format.PlainText;
import dripledger.engine.Engine;
import dripledger.engine.access.Caller;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.EndpointParameter;
import dripledger.engine.error.EngineException;
import dripledger.engine.query.Result;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import tools.jackson.databind.json.JsonMapper;

/**
 * The endpoints as an OpenAPI 3.1 document, with an answer of each from the data there is. Safe
 * from any thread.
 */
final class ApiDescription {
  private static final int EXAMPLE_ROWS = 2;
  private static final JsonMapper JSON = new JsonMapper();

  private final Engine engine;

  ApiDescription(Engine engine) {
    this.engine = engine;
  }

  /** What somebody may call. */
  Map<String, Object> document(Caller caller) {
    Map<String, Object> document = new LinkedHashMap<>();
    document.put("openapi", "3.1.0");
    document.put("info", Map.of("title", "Drip Ledger endpoints", "version", "1"));
    Map<String, Object> paths = new LinkedHashMap<>();
    for (CatalogObject.Endpoint endpoint : engine.endpoints().all(caller)) {
      paths.put("/api/v1/endpoints/" + endpoint.name(), Map.of("get", operation(endpoint, caller)));
    }
    document.put("paths", paths);
    document.put("components", Map.of("schemas", Map.of("Problem", problem())));
    return document;
  }

  private Map<String, Object> operation(CatalogObject.Endpoint endpoint, Caller caller) {
    Map<String, Object> operation = new LinkedHashMap<>();
    operation.put("operationId", endpoint.name());
    if (endpoint.description() != null) {
      operation.put("description", endpoint.description());
    }
    List<Object> parameters = new ArrayList<>();
    endpoint.parameters().forEach(p -> parameters.add(parameter(p)));
    if (endpoint.pageRows() > 0) {
      Map<String, Object> after = new LinkedHashMap<>();
      after.put("name", "after");
      after.put("in", "query");
      after.put("required", false);
      after.put("description", "next of the page before; left out for the first page");
      after.put("schema", Map.of("type", "string"));
      parameters.add(after);
    }
    operation.put("parameters", parameters);
    Map<String, Object> content = new LinkedHashMap<>();
    Map<String, Object> json = new LinkedHashMap<>();
    json.put("schema", answer(endpoint));
    Object example = example(endpoint, caller);
    if (example != null) {
      json.put("example", example);
    }
    content.put("application/json", json);
    content.put("application/x-ndjson", Map.of("schema", row(endpoint)));
    content.put("text/csv", Map.of("schema", Map.of("type", "string")));
    content.put(
        "application/vnd.apache.parquet",
        Map.of("schema", Map.of("type", "string", "contentEncoding", "binary")));
    content.put(
        "application/vnd.apache.arrow.stream",
        Map.of("schema", Map.of("type", "string", "contentEncoding", "binary")));
    Map<String, Object> responses = new LinkedHashMap<>();
    responses.put("200", Map.of("description", "the rows at one epoch", "content", content));
    responses.put("304", Map.of("description", "the rows are those of If-None-Match"));
    responses.put(
        "400",
        Map.of(
            "description",
            "a parameter is missing, unknown or not what it should be",
            "content",
            Map.of(
                "application/problem+json",
                Map.of("schema", Map.of("$ref", "#/components/schemas/Problem")))));
    operation.put("responses", responses);
    return operation;
  }

  private static Map<String, Object> parameter(EndpointParameter p) {
    Map<String, Object> parameter = new LinkedHashMap<>();
    parameter.put("name", p.name());
    parameter.put("in", "query");
    parameter.put("required", p.required());
    String check = p.check() == null ? null : "must be such that " + p.check();
    if (p.comment() != null || check != null) {
      parameter.put(
          "description",
          p.comment() == null ? check : check == null ? p.comment() : p.comment() + "; " + check);
    }
    Map<String, Object> schema = new LinkedHashMap<>(schema(p.type().notNull()));
    if (p.defaultValue() != null) {
      Object value = p.defaultValue();
      schema.put(
          "default",
          value instanceof Long || value instanceof Double || value instanceof Boolean
              ? value
              : PlainText.of(value));
    }
    parameter.put("schema", schema);
    return parameter;
  }

  private static Map<String, Object> answer(CatalogObject.Endpoint endpoint) {
    Map<String, Object> properties = new LinkedHashMap<>();
    properties.put("epoch", Map.of("type", "integer", "format", "int64"));
    properties.put("rows", Map.of("type", "array", "items", row(endpoint)));
    properties.put("count", Map.of("type", "integer"));
    if (endpoint.pageRows() > 0) {
      properties.put(
          "next",
          Map.of(
              "type", "string", "description", "what after is for the next page, if there is one"));
    }
    properties.put("rows_read", Map.of("type", "integer"));
    properties.put("elapsed_ms", Map.of("type", "number"));
    return Map.of("type", "object", "properties", properties);
  }

  private static Map<String, Object> row(CatalogObject.Endpoint endpoint) {
    Map<String, Object> properties = new LinkedHashMap<>();
    for (Column column : endpoint.schema().columns()) {
      properties.put(column.name(), schema(column.type()));
    }
    return Map.of("type", "object", "properties", properties);
  }

  /** A type as JSON Schema has it; exact decimals are text. */
  private static Map<String, Object> schema(ColumnType type) {
    Map<String, Object> schema = new LinkedHashMap<>();
    switch (type.kind()) {
      case BOOLEAN -> schema.put("type", "boolean");
      case SMALLINT, INTEGER -> {
        schema.put("type", "integer");
        schema.put("format", "int32");
      }
      case BIGINT -> {
        schema.put("type", "integer");
        schema.put("format", "int64");
      }
      case REAL, DOUBLE -> schema.put("type", "number");
      case DATE -> {
        schema.put("type", "string");
        schema.put("format", "date");
      }
      case TIMESTAMP -> {
        schema.put("type", "string");
        schema.put("format", "date-time");
      }
      case VARBINARY -> {
        schema.put("type", "string");
        schema.put("contentEncoding", "base64");
      }
      case ROW -> {
        schema.put("type", "object");
        Map<String, Object> fields = new LinkedHashMap<>();
        type.fields().forEach(f -> fields.put(f.name(), schema(f.type())));
        schema.put("properties", fields);
      }
      case ARRAY -> {
        schema.put("type", "array");
        schema.put("items", schema(type.element()));
      }
      default -> schema.put("type", "string");
    }
    if (type.nullable()) {
      schema.put("type", List.of(schema.get("type"), "null"));
    }
    return schema;
  }

  /** What a call without parameters answers, cut short; null if it needs some. */
  private Object example(CatalogObject.Endpoint endpoint, Caller caller) {
    if (endpoint.parameters().stream().anyMatch(EndpointParameter::required)) {
      return null;
    }
    try {
      Result.Rows rows = engine.endpoints().call(endpoint, Map.of(), caller).rows();
      List<Object> shown = new ArrayList<>();
      for (Object[] row : rows.rows().subList(0, Math.min(EXAMPLE_ROWS, rows.rows().size()))) {
        String text = new String(JsonRows.message(rows.columns(), row), StandardCharsets.UTF_8);
        shown.add(JSON.readTree(text));
      }
      return Map.of("epoch", rows.epoch(), "rows", shown);
    } catch (EngineException e) {
      return null; // it cannot be read at the moment
    }
  }

  private static Map<String, Object> problem() {
    return Map.of(
        "type",
        "object",
        "description",
        "RFC 9457",
        "properties",
        Map.of(
            "title", Map.of("type", "string"),
            "detail", Map.of("type", "string"),
            "hint", Map.of("type", "string"),
            "status", Map.of("type", "integer")));
  }
}
