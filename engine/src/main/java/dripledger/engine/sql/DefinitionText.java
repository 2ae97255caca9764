package dripledger.engine.sql;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.Schema;
import dripledger.engine.source.Proposal;
import java.math.BigDecimal;
import java.util.ArrayList;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.TreeMap;
import java.util.stream.Collectors;
import org.apache.calcite.sql.parser.SqlAbstractParserImpl;
import org.apache.calcite.sql.parser.SqlParser;

/** Writes definitions as statements: what a proposal of columns says in full. Stateless. */
public final class DefinitionText {
  /** What an event may be late by if nobody said so and the columns were proposed by us. */
  public static final int PROPOSED_LATENESS_SECONDS = 30;

  private static final SqlAbstractParserImpl.Metadata WORDS =
      SqlParser.create("", Dialect.PARSER).getMetadata();

  private DefinitionText() {}

  /** A name as it must be written. */
  public static String name(String name) {
    boolean plain = name.matches("[a-z_][a-z0-9_]*");
    return plain && !WORDS.isReservedWord(name.toUpperCase(java.util.Locale.ROOT))
        ? name
        : '"' + name.replace("\"", "\"\"") + '"';
  }

  /** A text as a literal. */
  public static String text(String value) {
    return "'" + value.replace("'", "''") + "'";
  }

  private static String type(ColumnType type) {
    return switch (type.kind()) {
      case ROW ->
          type.fields().stream()
              .map(f -> name(f.name()) + " " + type(f.type()))
              .collect(Collectors.joining(", ", "ROW(", ")"));
      case ARRAY -> type(type.element()) + " ARRAY";
      default -> type.sql();
    };
  }

  /**
   * CREATE STREAM with the columns proposed.
   *
   * @param latenessSeconds of the event time, if the proposal has one
   */
  public static String stream(
      String name, Proposal proposal, SourceSpec source, int latenessSeconds) {
    List<String> lines = columns(proposal, List.of());
    if (proposal.eventTime() != null) {
      lines.add(
          "EVENT TIME "
              + name(proposal.eventTime())
              + " LATENESS INTERVAL "
              + text("" + latenessSeconds)
              + " SECOND");
    }
    return "CREATE STREAM " + name(name) + body(lines) + from(source);
  }

  /** CREATE TABLE with the columns and the key proposed. */
  public static String table(String name, Proposal proposal, SourceSpec source) {
    List<String> lines = columns(proposal, proposal.key());
    if (proposal.key().size() > 1) {
      lines.add(
          proposal.key().stream()
              .map(DefinitionText::name)
              .collect(Collectors.joining(", ", "PRIMARY KEY (", ")")));
    }
    return "CREATE TABLE " + name(name) + body(lines) + from(source);
  }

  /** The statement that would make a stream as it is now. */
  public static String of(CatalogObject.Stream stream) {
    List<String> lines = new ArrayList<>();
    Schema schema = stream.schema();
    for (int i = 0; i < schema.size(); i++) {
      Column c = schema.column(i);
      CatalogObject.Meta meta = stream.origins().meta().get(i);
      List<String> path = stream.origins().paths().get(i);
      lines.add(
          name(c.name())
              + " "
              + type(c.type())
              + (path == null ? "" : " PATH " + text(Origins.text(path)))
              + (meta == null ? "" : " META " + meta.name().toLowerCase(Locale.ROOT))
              + (c.type().nullable() ? "" : " NOT NULL"));
    }
    if (stream.eventTime() >= 0) {
      lines.add(
          "EVENT TIME "
              + name(schema.column(stream.eventTime()).name())
              + " LATENESS INTERVAL "
              + text(
                  BigDecimal.valueOf(stream.latenessMicros(), 6)
                      .stripTrailingZeros()
                      .toPlainString())
              + " SECOND");
    }
    return "CREATE STREAM "
        + name(stream.name())
        + body(lines)
        + (stream.source() == null ? "" : from(stream.source()));
  }

  /** The statement that would make a connection as it is now; secrets by name. */
  public static String of(CatalogObject.Connection connection) {
    String options =
        new TreeMap<>(connection.options())
            .entrySet().stream()
                .map(
                    e ->
                        e.getKey()
                            + " "
                            + (e.getValue().secret()
                                ? "SECRET " + name(e.getValue().text())
                                : text(e.getValue().text())))
                .collect(Collectors.joining(", ", "OPTIONS (", ")"));
    return "CREATE CONNECTION "
        + name(connection.name())
        + " TYPE "
        + connection.type()
        + " "
        + options;
  }

  private static String body(List<String> lines) {
    return lines.stream().collect(Collectors.joining(",\n  ", " (\n  ", "\n)"));
  }

  private static List<String> columns(Proposal proposal, List<String> key) {
    List<String> lines = new ArrayList<>();
    for (Proposal.Proposed proposed : proposal.columns()) {
      Column c = proposed.column();
      boolean alone = key.size() == 1 && key.get(0).equals(c.name());
      lines.add(
          name(c.name())
              + " "
              + type(c.type())
              + (proposed.path() == null ? "" : " PATH " + text(Origins.text(proposed.path())))
              + (alone ? " PRIMARY KEY" : c.type().nullable() ? "" : " NOT NULL"));
    }
    return lines;
  }

  private static String from(SourceSpec source) {
    Map<String, String> options = new TreeMap<>(source.options());
    String list =
        options.entrySet().stream()
            .map(e -> e.getKey() + " " + text(e.getValue()))
            .collect(Collectors.joining(", ", " (", ")"));
    return "\nFROM "
        + name(source.connection())
        + (options.isEmpty() ? "" : list)
        + (source.format() == null ? "" : " FORMAT " + source.format());
  }
}
