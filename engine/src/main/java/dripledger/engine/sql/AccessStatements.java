package dripledger.engine.sql;

import dripledger.engine.access.Access;
import dripledger.engine.access.Privilege;
import dripledger.engine.access.Target;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Figures;
import dripledger.engine.catalog.Retention;
import dripledger.engine.error.EngineException;
import dripledger.grammar.Statement;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;

/** Checks CREATE ROLE, ALTER ROLE, GRANT and REVOKE. Stateless but for the catalog. */
final class AccessStatements {
  private static final Pattern SIZE = Pattern.compile("(\\d{1,12})\\s*(b|kb|mb|gb)?");
  private static final Pattern ROLE = Pattern.compile("[a-z][a-z0-9_]{0,62}");
  private static final List<String> BOUNDS =
      List.of(
          "statement_timeout",
          "max_rows",
          "max_memory",
          "max_body",
          "requests_per_second",
          "connections");

  private final Catalog catalog;

  AccessStatements(Catalog catalog) {
    this.catalog = catalog;
  }

  /** The statement, checked; null if it is none of these. */
  Command check(Statement statement) {
    if (statement instanceof Statement.CreateRole s) {
      return createRole(s);
    }
    if (statement instanceof Statement.Grant s) {
      return grant(s);
    }
    return statement instanceof Statement.AlterOptions s && s.kind().equals("ROLE")
        ? alterRole(s)
        : null;
  }

  private Command createRole(Statement.CreateRole s) {
    String name = SqlFrontEnd.name(s.name());
    if (!ROLE.matcher(name).matches()) {
      throw SqlErrors.invalid(
          s.name(),
          "a role's name is a small letter and then small letters, digits and underscores",
          null);
    }
    return new Command.CreateRole(name, s.ifNotExists(), bounds(s.options()));
  }

  private Command alterRole(Statement.AlterOptions s) {
    return new Command.AlterRole(SqlFrontEnd.name(s.name()), bounds(s.options()));
  }

  private static Map<String, Long> bounds(Map<String, SqlNode> options) {
    Map<String, Long> bounds = new LinkedHashMap<>();
    options.forEach((name, value) -> bounds.put(name, bound(name, value)));
    return bounds;
  }

  private static long bound(String name, SqlNode value) {
    if (!BOUNDS.contains(name)) {
      throw SqlErrors.invalid(
          value,
          "no option \"" + name + "\" of a role",
          "there are " + String.join(", ", BOUNDS) + "; 0 is no bound");
    }
    String text = value instanceof SqlLiteral literal ? literal.toValue() : null;
    long bound = -1;
    if (text != null && name.equals("statement_timeout")) {
      bound = text.equals("0") ? 0 : Retention.span(text) / 1000;
      bound = bound == 0 && !text.equals("0") ? -1 : bound;
    } else if (text != null) {
      Matcher m = SIZE.matcher(text.strip().toLowerCase(Locale.ROOT));
      boolean bytes = name.equals("max_memory") || name.equals("max_body");
      if (m.matches() && (bytes || m.group(2) == null)) {
        bound = Long.parseLong(m.group(1)) * unit(m.group(2));
      }
    }
    if (bound < 0) {
      throw SqlErrors.invalid(
          value,
          name + " cannot be " + (text == null ? "this" : "'" + text + "'"),
          name.equals("statement_timeout")
              ? "write a time such as '5 seconds', or 0 for no bound"
              : "write a number" + (name.startsWith("max_rows") ? "" : " such as 100"));
    }
    return bound;
  }

  private static long unit(String unit) {
    return switch (unit == null ? "b" : unit) {
      case "kb" -> 1L << 10;
      case "mb" -> 1L << 20;
      case "gb" -> 1L << 30;
      default -> 1;
    };
  }

  private Command grant(Statement.Grant s) {
    List<String> roles = s.roles().stream().map(SqlFrontEnd::name).toList();
    Map<Target, List<Privilege>> privileges = new LinkedHashMap<>();
    for (SqlIdentifier id : s.rights().on()) {
      Target target = s.rights().schema() ? schema(id) : object(id);
      List<Privilege> fitting = fitting(target);
      if (s.rights().privileges() == null) {
        privileges.put(target, fitting);
        continue;
      }
      List<Privilege> wanted = new ArrayList<>();
      for (String word : s.rights().privileges()) {
        Privilege privilege = Privilege.valueOf(word);
        if (!fitting.contains(privilege)) {
          throw SqlErrors.invalid(
              id,
              word + " has no meaning for " + what(target),
              "there " + (fitting.size() == 1 ? "is " : "are ") + words(fitting));
        }
        wanted.add(privilege);
      }
      privileges.put(target, wanted);
    }
    return new Command.Grant(s.revoke(), privileges, roles);
  }

  private static String words(List<Privilege> privileges) {
    return privileges.stream()
        .map(Privilege::name)
        .collect(java.util.stream.Collectors.joining(", "));
  }

  private static Target schema(SqlIdentifier id) {
    String name = SqlFrontEnd.name(id);
    if (!name.equals(Target.PUBLIC) && !name.equals(Target.DRIP)) {
      throw SqlErrors.invalid(
          id,
          "no schema \"" + name + "\"",
          "there are public, with all that is made, and drip, with the tables of figures");
    }
    return new Target(name, null);
  }

  private Target object(SqlIdentifier id) {
    boolean qualified = id.names.size() == 2;
    String schema = qualified ? id.names.get(0) : Target.PUBLIC;
    String name = qualified ? id.names.get(1) : SqlFrontEnd.name(id);
    if (!schema.equals(Target.PUBLIC) && !schema.equals(Target.DRIP)) {
      throw SqlErrors.invalid(id, "no schema \"" + schema + "\"", null);
    }
    Target target = new Target(schema, name);
    if (Access.named(catalog, target) == null) {
      String near =
          SqlErrors.nearest(name, catalog.all().stream().map(CatalogObject::name).toList());
      throw new EngineException(
          EngineException.Code.NOT_FOUND,
          "there is no \"" + target.text() + "\"",
          id.getParserPosition().getLineNum(),
          id.getParserPosition().getColumnNum(),
          near == null ? null : "did you mean \"" + near + "\"?");
    }
    return target;
  }

  private String what(Target target) {
    return target.name() == null
        ? target.text()
        : Access.named(catalog, target).aKind() + " (\"" + target.name() + "\")";
  }

  /** What can be granted on it. */
  private List<Privilege> fitting(Target target) {
    if (target.name() == null) {
      return target.schema().equals(Target.DRIP)
          ? List.of(Privilege.SELECT)
          : List.of(
              Privilege.SELECT,
              Privilege.INSERT,
              Privilege.UPDATE,
              Privilege.DELETE,
              Privilege.USAGE,
              Privilege.CREATE);
    }
    CatalogObject object = Access.named(catalog, target);
    if (object instanceof CatalogObject.Connection) {
      return List.of(Privilege.USAGE);
    }
    boolean changes = CatalogObject.sourceOf(object) == null;
    if (object instanceof CatalogObject.Table && changes) {
      return List.of(Privilege.SELECT, Privilege.INSERT, Privilege.UPDATE, Privilege.DELETE);
    }
    if (object instanceof CatalogObject.Stream && changes) {
      return List.of(Privilege.SELECT, Privilege.INSERT);
    }
    boolean figures = object instanceof Figures;
    return figures || !(object instanceof CatalogObject.Sink)
        ? List.of(Privilege.SELECT)
        : List.of();
  }
}
