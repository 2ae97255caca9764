package dripledger.engine.introspection;

import dripledger.engine.access.Access;
import dripledger.engine.access.AccessStore;
import dripledger.engine.access.Caller;
import dripledger.engine.access.Grant;
import dripledger.engine.access.Role;
import dripledger.engine.query.Result;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import java.util.ArrayList;
import java.util.Comparator;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.function.Function;
import java.util.stream.Collectors;

/** Roles, grants, tokens and the journal as rows. Stateless. */
final class AccessFigures {
  private AccessFigures() {}

  static List<Object[]> roles(Access access) {
    Map<String, Long> tokens =
        access.store().tokens().stream()
            .filter(t -> t.state().equals("valid"))
            .collect(Collectors.groupingBy(AccessStore.Token::role, Collectors.counting()));
    List<Object[]> rows = new ArrayList<>();
    for (Role role : access.roles()) {
      Role.Bounds b = role.bounds();
      rows.add(
          new Object[] {
            role.name(),
            role.shared(),
            tokens.getOrDefault(role.name(), 0L),
            b.statementMillis(),
            b.maxRows(),
            b.maxMemory(),
            b.maxBody(),
            b.perSecond(),
            b.connections()
          });
    }
    return rows;
  }

  static List<Object[]> grants(Access access) {
    List<Object[]> rows = new ArrayList<>();
    for (Grant grant : ordered(access)) {
      rows.add(
          new Object[] {
            grant.role(), grant.privilege().name(), grant.on().schema(), grant.on().name()
          });
    }
    return rows;
  }

  private static List<Grant> ordered(Access access) {
    return access.grants().stream()
        .sorted(
            Comparator.comparing(Grant::role)
                .thenComparing(g -> g.on().text())
                .thenComparing(Grant::privilege))
        .toList();
  }

  static List<Object[]> tokens(Access access) {
    List<Object[]> rows = new ArrayList<>();
    for (AccessStore.Token t : access.store().tokens()) {
      rows.add(
          new Object[] {
            t.id(), t.role(), t.name(), t.state(), t.madeAt(), t.madeBy(), t.expiresAt(), t.usedAt()
          });
    }
    return rows;
  }

  static List<Object[]> journal(Access access) {
    List<Object[]> rows = new ArrayList<>();
    for (AccessStore.Noted n : access.store().journal()) {
      AccessStore.Entry e = n.entry();
      rows.add(
          new Object[] {n.at(), e.role(), e.via(), e.what(), e.object(), e.detail(), n.times()});
    }
    return rows;
  }

  /** SHOW ROLES: all for the owner, itself for everybody else. */
  static Result.Rows shownRoles(Access access, Caller caller, long epoch) {
    Map<String, List<Grant>> grants = access.byRole();
    Map<String, Long> tokens =
        access.store().tokens().stream()
            .filter(t -> t.state().equals("valid"))
            .collect(Collectors.groupingBy(AccessStore.Token::role, Collectors.counting()));
    List<Object[]> rows = new ArrayList<>();
    for (Role role : access.roles()) {
      if (caller.isOwner() || role.name().equals(caller.role())) {
        rows.add(
            new Object[] {
              role.name(),
              role.owner() ? "everything" : words(grants.getOrDefault(role.name(), List.of())),
              tokens.getOrDefault(role.name(), 0L),
              bounds(role.bounds()),
              role.shared() ? "outside; its reads are in the journal" : null
            });
      }
    }
    return new Result.Rows(
        List.of(
            text("name"),
            text("may"),
            new Column("tokens", ColumnType.of(ColumnType.Kind.BIGINT)),
            text("bounds"),
            text("note")),
        rows,
        epoch);
  }

  /** Such as {@code SELECT on busiest_areas, gate_load; INSERT on scan}. */
  private static String words(List<Grant> grants) {
    Map<String, List<String>> by = new TreeMap<>(Comparator.reverseOrder());
    for (Grant grant : grants) {
      by.computeIfAbsent(grant.privilege().name(), p -> new ArrayList<>()).add(grant.on().text());
    }
    return by.isEmpty()
        ? "nothing"
        : by.entrySet().stream()
            .map(e -> e.getKey() + " on " + e.getValue().stream().sorted().collect(joined()))
            .collect(Collectors.joining("; "));
  }

  private static java.util.stream.Collector<CharSequence, ?, String> joined() {
    return Collectors.joining(", ");
  }

  private static String bounds(Role.Bounds b) {
    List<String> words = new ArrayList<>();
    Function<Long, String> number = n -> Long.toString(n);
    add(words, "statement_timeout", b.statementMillis(), n -> n / 1e3 + " s");
    add(words, "max_rows", b.maxRows(), number);
    add(words, "max_memory", b.maxMemory(), number);
    add(words, "max_body", b.maxBody(), number);
    add(words, "requests_per_second", b.perSecond(), number);
    add(words, "connections", b.connections(), number);
    return words.isEmpty() ? null : String.join(", ", words);
  }

  private static void add(
      List<String> words, String name, long value, Function<Long, String> shown) {
    if (value != 0) {
      words.add(name + " " + shown.apply(value));
    }
  }

  /** SHOW GRANTS: all for the owner, its own for everybody else. */
  static Result.Rows shownGrants(Access access, Caller caller, long epoch) {
    List<Object[]> rows = new ArrayList<>();
    for (Grant grant : ordered(access)) {
      if (caller.isOwner() || grant.role().equals(caller.role())) {
        rows.add(new Object[] {grant.role(), grant.privilege().name(), grant.on().text()});
      }
    }
    return new Result.Rows(List.of(text("role"), text("privilege"), text("on")), rows, epoch);
  }

  private static Column text(String name) {
    return new Column(name, ColumnType.varchar(-1));
  }
}
