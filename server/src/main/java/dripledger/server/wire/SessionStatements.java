package dripledger.server.wire;

import dripledger.engine.change.TableTransactions;
import dripledger.engine.statement.Session;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Locale;
import java.util.Map;
import java.util.Set;

/**
 * The statements that concern the connection and not the data: transactions, settings, cursors. One
 * thread.
 */
final class SessionStatements implements AutoCloseable {
  private static final Set<String> WORDS =
      Set.of(
          ("set reset show begin start commit end rollback abort discard deallocate listen unlisten"
                  + " declare fetch move close savepoint release prepare execute")
              .split(" "));

  /** What SHOW lists that is not a setting. */
  private static final Set<String> LISTS =
      Set.of(
          ("streams tables views connections topics files create sinks endpoints roles grants tokens"
                  + " shares")
              .split(" "));

  private static final int MOST_CURSORS = 100;
  private static final int MOST_SAVEPOINTS = 1000;

  /** What it does to the rest of the connection. */
  interface Connection {
    Session engine();

    SessionVariables variables();

    /** The name of the one database that clients see. */
    String database();

    Portal portal(StatementText statement);

    /** Forgets a prepared statement; all if the name is null. */
    void deallocate(String name);

    /** Carries out what the settings say. */
    void settingsChanged();

    /** Tells the client what a setting is now. */
    void report(String name);

    /** A transaction that failed has ended. */
    void recovered();

    boolean hasFailed();
  }

  private record Savepoint(String name, TableTransactions.Mark mark) {}

  private final Connection connection;
  private final Map<String, Portal> cursors = new HashMap<>();
  private final List<Savepoint> savepoints = new ArrayList<>(); // one after the other

  SessionStatements(Connection connection) {
    this.connection = connection;
  }

  static boolean isOne(StatementText s) {
    String word = s.token(0).kind() == Lexer.Kind.WORD ? s.token(0).text() : "";
    return SessionNames.of(s) != null
        || WORDS.contains(word) && !(word.equals("show") && LISTS.contains(s.token(1).text()));
  }

  /** Whether it goes back to a savepoint. */
  static boolean goesBack(StatementText s) {
    return s.tokens().stream().anyMatch(t -> t.is("to"));
  }

  /** Whether it can end a transaction that failed, or the part of it that did. */
  static boolean endsTransaction(StatementText s) {
    return switch (s.token(0).text()) {
      case "commit", "end", "rollback", "abort" -> isOne(s);
      default -> false;
    };
  }

  Portal portal(StatementText s) {
    return switch (s.token(0).text()) {
      case "select" ->
          SessionNames.portal(
              SessionNames.of(s),
              connection.variables().get("session_authorization"),
              connection.database());
      case "set" -> set(s);
      case "reset" -> reset(s);
      case "show" -> show(s);
      case "begin", "start" -> begin(s);
      case "commit", "end" -> Portals.done(this::commit);
      case "rollback", "abort" -> rollback(s);
      case "savepoint" -> savepoint(s);
      case "release" -> release(s);
      case "discard" -> Portals.done("DISCARD " + upper(s.token(1)), this::discardAll);
      case "deallocate" -> deallocate(s);
      case "listen", "unlisten" -> Portals.done(upper(s.token(0)), () -> {});
      case "declare" -> declare(s);
      case "fetch", "move" -> fetch(s);
      case "close" -> close(s);
      default ->
          throw new WireError(
              "0A000",
              "not supported: " + upper(s.token(0)),
              "prepare with the client's own means");
    };
  }

  private static String upper(Lexer.Token token) {
    return token.text().toUpperCase(Locale.ROOT);
  }

  // ---- settings

  private Portal set(StatementText s) {
    int at = s.token(1).is("session") || s.token(1).is("local") ? 2 : 1;
    if (s.token(at).is("transaction")) {
      return Portals.done("SET", () -> mode(s, false));
    }
    if (s.token(at).is("characteristics")) {
      return Portals.done("SET", () -> mode(s, true));
    }
    boolean zone = s.token(at).is("time") && s.token(at + 1).is("zone");
    boolean names = s.token(at).is("names");
    String name = zone ? "TimeZone" : names ? "client_encoding" : s.token(at).text() + rest(s, at);
    int value = zone ? at + 2 : names ? at + 1 : at + 1;
    while (!zone
        && !names
        && value < s.tokens().size()
        && !s.token(value).is("=")
        && !s.token(value).is("to")) {
      value++;
    }
    int from = zone || names ? value : value + 1;
    if (from >= s.tokens().size()) {
      throw new WireError("42601", "a setting without a value", "SET name TO value");
    }
    List<String> parts = new ArrayList<>();
    for (Lexer.Token t : s.tokens().subList(from, s.tokens().size())) {
      if (!t.is(",")) {
        parts.add(t.is("-") ? "-" : t.text());
      }
    }
    String joined = String.join(", ", parts).replace("-, ", "-");
    return Portals.done(
        "SET",
        () -> {
          if (parts.size() == 1 && s.token(from).is("default")) {
            connection.variables().reset(name);
          } else {
            connection.variables().set(name, joined);
          }
          changed(name);
        });
  }

  /** The parts behind the dots of a name. */
  private static String rest(StatementText s, int at) {
    return s.token(at + 1).is(".") ? "." + s.token(at + 2).text() : "";
  }

  private void changed(String name) {
    String key = connection.variables().nameOf(name);
    connection.settingsChanged();
    if (SessionVariables.isReported(key)) {
      connection.report(key);
    }
  }

  private void mode(StatementText s, boolean always) {
    String isolation = isolation(s);
    SessionVariables variables = connection.variables();
    if (isolation != null) {
      variables.set(always ? "default_transaction_isolation" : "transaction_isolation", isolation);
    }
    for (int i = 1; i < s.tokens().size(); i++) {
      if (s.token(i).is("read") && (s.token(i + 1).is("only") || s.token(i + 1).is("write"))) {
        variables.set(
            always ? "default_transaction_read_only" : "transaction_read_only",
            s.token(i + 1).is("only") ? "on" : "off");
      }
    }
    connection.settingsChanged();
    if (!always && connection.engine().inTransaction()) { // nothing was asked yet, or it is late
      boolean reads = SessionVariables.isOn(variables.get("transaction_read_only"));
      connection.engine().rollback();
      connection.engine().begin(pins(variables.get("transaction_isolation")), reads);
    }
  }

  private static String isolation(StatementText s) {
    for (int i = 0; i < s.tokens().size(); i++) {
      if (s.token(i).is("level")) {
        String first = s.token(i + 1).text();
        return first.equals("serializable") ? first : first + " " + s.token(i + 2).text();
      }
    }
    return null;
  }

  private static boolean pins(String isolation) {
    return isolation.startsWith("repeatable") || isolation.startsWith("serializable");
  }

  private Portal reset(StatementText s) {
    return Portals.done(
        "RESET",
        () -> {
          if (s.token(1).is("all")) {
            connection.variables().resetAll();
            changed("statement_timeout");
          } else {
            connection.variables().reset(s.token(1).text());
            changed(s.token(1).text());
          }
        });
  }

  private Portal show(StatementText s) {
    SessionVariables variables = connection.variables();
    if (s.token(1).is("all")) {
      List<Object[]> rows = new ArrayList<>();
      variables.all().forEach((name, value) -> rows.add(new Object[] {name, value, ""}));
      return new Portals.Rows(
          List.of(Field.text("name"), Field.text("setting"), Field.text("description")),
          rows,
          "SHOW");
    }
    String name =
        s.token(1).is("transaction")
            ? "transaction_isolation"
            : s.token(1).is("time") ? "TimeZone" : s.token(1).text();
    List<Object[]> row = new ArrayList<>();
    row.add(new Object[] {variables.get(name)});
    return new Portals.Rows(List.of(Field.text(variables.nameOf(name))), row, "SHOW");
  }

  // ---- transactions

  private Portal begin(StatementText s) {
    return Portals.done(
        s.begins("start") ? "START TRANSACTION" : "BEGIN",
        () -> {
          if (connection.engine().inTransaction()) {
            return; // as PostgreSQL does, which warns
          }
          SessionVariables variables = connection.variables();
          variables.set("transaction_isolation", variables.get("default_transaction_isolation"));
          variables.set("transaction_read_only", variables.get("default_transaction_read_only"));
          mode(s, false);
          connection
              .engine()
              .begin(
                  pins(variables.get("transaction_isolation")),
                  SessionVariables.isOn(variables.get("transaction_read_only")));
        });
  }

  private String commit() {
    boolean failed = connection.hasFailed();
    ended();
    if (failed) {
      connection.engine().rollback();
      return "ROLLBACK";
    }
    connection.engine().commit();
    return "COMMIT";
  }

  private Portal rollback(StatementText s) {
    if (goesBack(s)) {
      return rollbackTo(s.token(s.tokens().size() - 1).text());
    }
    return Portals.done(
        () -> {
          ended();
          connection.engine().rollback();
          return "ROLLBACK";
        });
  }

  private Portal savepoint(StatementText s) {
    return Portals.done(
        "SAVEPOINT",
        () -> {
          needTransaction();
          if (savepoints.size() >= MOST_SAVEPOINTS) {
            throw new WireError(
                "54000", "more than " + MOST_SAVEPOINTS + " savepoints", "RELEASE some");
          }
          savepoints.add(new Savepoint(s.token(1).text(), connection.engine().mark()));
        });
  }

  private Portal release(StatementText s) {
    String name = s.token(s.tokens().size() - 1).text();
    return Portals.done("RELEASE", () -> forgetFrom(place(name)));
  }

  private void needTransaction() {
    if (!connection.engine().inTransaction()) {
      throw new WireError("25P01", "a savepoint is a place in a transaction", "BEGIN");
    }
  }

  /** Where the latest savepoint of this name stands. */
  private int place(String name) {
    needTransaction();
    int at = savepoints.size() - 1;
    while (at >= 0 && !savepoints.get(at).name.equals(name)) {
      at--;
    }
    if (at < 0) {
      throw new WireError("3B001", "there is no savepoint \"" + name + "\"", null);
    }
    return at;
  }

  private void forgetFrom(int place) {
    savepoints.subList(place, savepoints.size()).clear();
  }

  private Portal rollbackTo(String name) {
    return Portals.done(
        "ROLLBACK",
        () -> {
          int place = place(name);
          connection.engine().backTo(savepoints.get(place).mark);
          forgetFrom(place + 1); // it stays a place to go back to
          connection.recovered();
        });
  }

  private void ended() {
    savepoints.clear();
    connection.recovered();
    closeAll();
    connection.variables().reset("transaction_isolation");
    connection.variables().reset("transaction_read_only");
  }

  private void discardAll() {
    closeAll();
    connection.deallocate(null);
    connection.variables().resetAll();
    changed("statement_timeout");
  }

  private Portal deallocate(StatementText s) {
    int at = s.token(1).is("prepare") ? 2 : 1;
    String name = s.token(at).is("all") ? null : s.token(at).text();
    return Portals.done("DEALLOCATE", () -> connection.deallocate(name));
  }

  // ---- cursors

  private Portal declare(StatementText s) {
    String name = s.token(1).text();
    int at = 2;
    while (at < s.tokens().size() && !s.token(at).is("for")) {
      if (s.token(at).is("scroll") && !s.token(at - 1).is("no")) {
        throw new WireError("0A000", "not supported: cursors that go back", "NO SCROLL");
      }
      at++;
    }
    if (at + 1 >= s.tokens().size()) {
      throw new WireError("42601", "a cursor without a query", "DECLARE c CURSOR FOR SELECT …");
    }
    int query = at + 1;
    return Portals.done(
        "DECLARE CURSOR",
        () -> {
          if (cursors.containsKey(name)) {
            throw new WireError("42P03", "the cursor \"" + name + "\" is open already", null);
          }
          if (cursors.size() >= MOST_CURSORS) {
            throw new WireError(
                "54000", "more than " + MOST_CURSORS + " open cursors", "CLOSE some");
          }
          Portal cursor = connection.portal(s.from(query));
          if (cursor.fields() == null) {
            throw new WireError("42601", "a cursor is for a query", null);
          }
          cursors.put(name, cursor);
        });
  }

  /** The cursor of this name, or null. */
  Portal open(String name) {
    return cursors.get(name);
  }

  private Portal cursor(String name) {
    Portal cursor = cursors.get(name);
    if (cursor == null) {
      throw new WireError("34000", "there is no open cursor \"" + name + "\"", "DECLARE it first");
    }
    return cursor;
  }

  private Portal fetch(StatementText s) {
    int at = 1;
    long most = 1;
    if (s.token(at).is("forward") || s.token(at).is("next")) {
      at++;
    }
    if (s.token(at).is("all")) {
      most = 0;
      at++;
    } else if (s.token(at).kind() == Lexer.Kind.NUMBER) {
      String count = s.token(at).text();
      if (!count.matches("\\d{1,18}")) {
        throw new WireError("42601", count + " is no number of rows", "FETCH 100 FROM c");
      }
      most = Long.parseLong(count);
      at++;
    } else if (s.token(at).is("backward")
        || s.token(at).is("prior")
        || s.token(at).is("absolute")) {
      throw new WireError("0A000", "not supported: cursors that go back", "FETCH n FROM c");
    }
    if (s.token(at).is("from") || s.token(at).is("in")) {
      at++;
    }
    Portal cursor = cursor(s.token(at).text());
    long rows = most;
    boolean moves = s.begins("move");
    return new Portal() {
      @Override
      List<Field> fields() {
        return moves ? null : cursor.fields();
      }

      @Override
      long send(WireOutput out, Formats formats, long ignored) throws java.io.IOException {
        return moves ? 0 : cursor.send(out, formats, rows);
      }

      @Override
      String tag(long sent) {
        return (moves ? "MOVE " : "FETCH ") + sent;
      }
    };
  }

  private Portal close(StatementText s) {
    return Portals.done(
        s.token(1).is("all") ? "CLOSE CURSOR ALL" : "CLOSE CURSOR",
        () -> {
          if (s.token(1).is("all")) {
            closeAll();
          } else {
            cursor(s.token(1).text()).close();
            cursors.remove(s.token(1).text());
          }
        });
  }

  private void closeAll() {
    cursors.values().forEach(Portal::close);
    cursors.clear();
  }

  @Override
  public void close() {
    closeAll();
  }
}
