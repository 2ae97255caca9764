package dripledger.server.wire;

import java.util.ArrayList;
import java.util.List;
import java.util.Set;

/**
 * What a client asks to learn who and where it is, such as {@code SELECT current_user}: of the
 * session, and not of the catalog's server, which knows neither our roles nor our name. Stateless.
 */
final class SessionNames {
  private static final Set<String> USER =
      Set.of("current_user", "session_user", "current_role", "user");
  private static final Set<String> PLACE = Set.of("current_database", "current_catalog");

  /** A column of the answer. */
  record Item(String name, String function) {
    Object value(String role, String database) {
      return USER.contains(function) ? role : database;
    }
  }

  private SessionNames() {}

  /** What a statement asks, if it is nothing else; or null. */
  static List<Item> of(StatementText s) {
    if (!s.begins("select")) {
      return null;
    }
    List<Item> items = new ArrayList<>();
    int at = 1;
    do {
      Lexer.Token token = s.token(at);
      String function = token.kind() == Lexer.Kind.WORD ? token.text() : "";
      if (!USER.contains(function) && !PLACE.contains(function)) {
        return null;
      }
      at++;
      if (function.equals("current_database")) {
        if (!s.token(at).is("(") || !s.token(at + 1).is(")")) {
          return null;
        }
        at += 2;
      }
      String name = function;
      if (s.token(at).is("as") && s.token(at + 1).isName()) {
        name = s.token(at + 1).text();
        at += 2;
      }
      items.add(new Item(name, function));
    } while (s.token(at++).is(","));
    return at > s.tokens().size() ? items : null;
  }

  /** The answer. */
  static Portal portal(List<Item> items, String role, String database) {
    Object[] row = items.stream().map(i -> i.value(role, database)).toArray();
    List<Object[]> rows = new ArrayList<>();
    rows.add(row);
    return new Portals.Rows(items.stream().map(i -> Field.text(i.name())).toList(), rows, "SELECT");
  }
}
