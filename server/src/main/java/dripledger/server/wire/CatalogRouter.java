package dripledger.server.wire;

import dripledger.engine.catalog.Catalog;
import java.util.ArrayDeque;
import java.util.Deque;
import java.util.HashSet;
import java.util.List;
import java.util.Set;

/**
 * Tells introspection from questions about data: a query belongs to PostgreSQL's catalog if every
 * relation it reads is of {@code pg_catalog} or {@code information_schema}, or if it reads none and
 * calls what only that catalog can answer. What is wrongly taken for one is refused there: its role
 * may read nothing else. Single use.
 */
final class CatalogRouter {
  private static final Set<String> SCHEMAS = Set.of("pg_catalog", "information_schema");

  /** Functions whose arguments may say FROM. */
  private static final Set<String> WITH_FROM =
      Set.of("extract", "substring", "trim", "overlay", "position");

  private static final Set<String> END_OF_FROM =
      Set.of(
          ("where group order having limit union intersect except fetch offset window for qualify"
                  + " returning")
              .split(" "));

  private static final Set<String> FUNCTIONS =
      Set.of(
          ("version current_schema current_schemas current_database current_catalog current_setting"
                  + " set_config current_user session_user user obj_description col_description"
                  + " shobj_description format_type to_regclass to_regtype to_regproc to_regnamespace"
                  + " txid_current inet_server_addr inet_server_port inet_client_addr"
                  + " inet_client_port quote_ident array_to_string")
              .split(" "));

  private static final Set<String> WITHOUT_PARENTHESES =
      Set.of("current_user", "session_user", "current_catalog", "current_schema", "user");

  private final StatementText statement;
  private final Catalog catalog;
  private final Set<String> common = new HashSet<>();
  private boolean readsCatalog;
  private boolean readsOthers;

  private CatalogRouter(StatementText statement, Catalog catalog) {
    this.statement = statement;
    this.catalog = catalog;
  }

  /** Whether PostgreSQL's catalog answers a statement. */
  static boolean isIntrospection(StatementText statement, Catalog catalog) {
    Lexer.Token first = statement.token(0);
    if (!first.is("select") && !first.is("with") && !first.is("(") && !first.is("values")) {
      return false;
    }
    return new CatalogRouter(statement, catalog).find();
  }

  private boolean find() {
    List<Lexer.Token> tokens = statement.tokens();
    for (int i = 0; i + 2 < tokens.size(); i++) {
      boolean as = statement.token(i + 1).is("as");
      boolean materialized =
          statement.token(i + 2).is("materialized") || statement.token(i + 2).is("not");
      if (tokens.get(i).isName() && as && (statement.token(i + 2).is("(") || materialized)) {
        common.add(tokens.get(i).text());
      }
      if (tokens.get(i).isName() && statement.token(i + 1).is("(")) {
        int close = close(i + 1);
        if (statement.token(close + 1).is("as") && statement.token(close + 2).is("(")) {
          common.add(tokens.get(i).text());
        }
      }
    }
    relations();
    return !readsOthers && (readsCatalog || callsCatalog());
  }

  private int close(int open) {
    int depth = 0;
    for (int i = open; i < statement.tokens().size(); i++) {
      depth += statement.token(i).is("(") ? 1 : statement.token(i).is(")") ? -1 : 0;
      if (depth == 0) {
        return i;
      }
    }
    return statement.tokens().size();
  }

  /** Looks at what stands where a relation is named, at every depth. */
  private void relations() {
    Deque<Boolean> inFrom = new ArrayDeque<>(); // of the parentheses around
    Deque<Boolean> ofFunction = new ArrayDeque<>();
    boolean from = false;
    boolean function = false;
    boolean expected = false;
    List<Lexer.Token> tokens = statement.tokens();
    for (int i = 0; i < tokens.size(); i++) {
      Lexer.Token t = tokens.get(i);
      if (expected && (t.is("only") || t.is("lateral"))) {
        continue;
      }
      if (t.is("(")) {
        inFrom.push(from);
        ofFunction.push(function);
        function = i > 0 && WITH_FROM.contains(tokens.get(i - 1).text());
        // FROM (a JOIN b): what follows is a relation, or SELECT
        from = expected;
      } else if (t.is(")")) {
        from = !inFrom.isEmpty() && inFrom.pop();
        function = !ofFunction.isEmpty() && ofFunction.pop();
        expected = false;
      } else if (t.is("from") && !function && !isDistinctFrom(i)) {
        from = true;
        expected = true;
      } else if (t.is("join") || t.is(",") && from) {
        expected = true;
      } else if (t.is("table") && (i == 0 || tokens.get(i - 1).is("("))) {
        expected = true;
      } else if (t.kind() == Lexer.Kind.WORD && END_OF_FROM.contains(t.text())) {
        from = false;
        expected = false;
      } else if (t.is("select") || t.is("values") || t.is("with")) {
        from = false;
        expected = false;
      } else if (expected) {
        expected = false;
        if (t.isName()) {
          i = relation(i);
        }
      }
    }
  }

  private boolean isDistinctFrom(int i) {
    return i > 1
        && statement.token(i - 1).is("distinct")
        && (statement.token(i - 2).is("is") || statement.token(i - 2).is("not"));
  }

  /** Takes a name of a relation; answers its last token. */
  private int relation(int at) {
    int last = at;
    while (statement.token(last + 1).is(".") && statement.token(last + 2).isName()) {
      last += 2;
    }
    String first = statement.token(at).text();
    String name = statement.token(last).text();
    if (statement.token(last + 1).is("(")) {
      readsCatalog |= last > at && SCHEMAS.contains(first); // a function's rows
    } else if (last > at) {
      boolean ours = !SCHEMAS.contains(statement.token(last - 2).text());
      readsOthers |= ours;
      readsCatalog |= !ours;
    } else if (!common.contains(name)) {
      boolean theirs = name.startsWith("pg_") && catalog.find(name) == null;
      readsCatalog |= theirs;
      readsOthers |= !theirs;
    }
    return last;
  }

  private boolean callsCatalog() {
    for (int i = 0; i < statement.tokens().size(); i++) {
      Lexer.Token t = statement.token(i);
      if (t.kind() == Lexer.Kind.QUOTED_NAME || t.kind() != Lexer.Kind.WORD) {
        continue;
      }
      boolean called = statement.token(i + 1).is("(");
      if (called && (t.text().startsWith("pg_") || t.text().startsWith("has_"))
          || called && FUNCTIONS.contains(t.text())
          || WITHOUT_PARENTHESES.contains(t.text())
          || t.text().startsWith("reg") && i > 1 && statement.token(i - 1).is(":")
          || SCHEMAS.contains(t.text()) && statement.token(i + 1).is(".")) {
        return true;
      }
    }
    return false;
  }
}
