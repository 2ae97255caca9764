package dripledger.engine.query;

import dripledger.engine.access.Caller;
import dripledger.engine.access.Privilege;
import dripledger.engine.catalog.Catalog;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.EndpointParameter;
import dripledger.engine.circuit.LiveNode;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import dripledger.engine.expr.Casts;
import dripledger.engine.sql.Argument;
import dripledger.engine.sql.Command;
import dripledger.engine.sql.SqlFrontEnd;
import dripledger.engine.view.Pinned;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashMap;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.TreeMap;
import java.util.concurrent.ConcurrentHashMap;
import java.util.function.LongFunction;
import java.util.function.LongSupplier;
import java.util.function.Supplier;
import java.util.stream.Collectors;

/**
 * Calls of endpoints: values are read by their types, each query is planned once as long as the
 * catalog stays the same, and what a call took is noted. Safe from any thread.
 */
public final class Endpoints {
  private static final int KEPT = 1000; // answers
  private static final String AFTER = "after";
  private static final String MAKER = ""; // who may read all that is in the query
  private static final int SAMPLES = 1024; // of times, for each endpoint

  private final SqlFrontEnd frontEnd;
  private final QueryRunner runner;
  private final Supplier<Catalog> catalog;
  private final Supplier<Pinned> pin;
  private final LongSupplier nowMicros;
  private final PreparedQueries prepared;
  private final Map<Call, Answer> answers = kept();
  private final LongFunction<LiveNode> nodes;
  private final Map<By, Figures> figures = new ConcurrentHashMap<>();

  /** Who has called what. */
  private record By(long endpoint, String role) {}

  /**
   * The answer of a call.
   *
   * @param read rows read for it; none if it was kept
   * @param next where the next page begins; null if there is none
   */
  public record Called(Result.Rows rows, long read, String next) {}

  /** An endpoint and the values it is called with. */
  private record Call(long endpoint, Map<String, Object> values, String after) {}

  private record Answer(Pages.Page page, long atNanos) {}

  /**
   * What calls took so far.
   *
   * @param calls all of them
   * @param errors those that were refused or failed
   * @param p50Millis half of the last thousand took less
   */
  public record Taken(long calls, long errors, double p50Millis, double p99Millis) {}

  /**
   * @param pin gives the newest epoch, readable until it is closed
   * @param nodes gives the live node of the object of a number; null if it keeps nothing
   */
  public Endpoints(
      SqlFrontEnd frontEnd,
      QueryRunner runner,
      Supplier<Catalog> catalog,
      Supplier<Pinned> pin,
      LongSupplier nowMicros,
      LongFunction<LiveNode> nodes) {
    this.nodes = nodes;
    this.frontEnd = frontEnd;
    prepared = new PreparedQueries(frontEnd, nowMicros);
    this.runner = runner;
    this.catalog = catalog;
    this.pin = pin;
    this.nowMicros = nowMicros;
  }

  private static <V> Map<Call, V> kept() {
    return java.util.Collections.synchronizedMap(
        new LinkedHashMap<>(64, 0.75f, true) {
          private static final long serialVersionUID = 1L;

          @Override
          protected boolean removeEldestEntry(Map.Entry<Call, V> eldest) {
            return size() > KEPT;
          }
        });
  }

  /** The endpoint of this name, if somebody may call it. */
  public CatalogObject.Endpoint endpoint(String name, Caller caller) {
    if (caller.catalog(catalog.get()).find(name) instanceof CatalogObject.Endpoint endpoint) {
      return endpoint;
    }
    String hint = "SHOW ENDPOINTS lists what there is";
    if (!caller.isOwner()) {
      throw caller.refused(name, "no endpoint \"" + name + "\" for role " + caller.role(), hint);
    }
    throw new EngineException(Code.NOT_FOUND, "no endpoint \"" + name + "\"", hint);
  }

  /**
   * Calls an endpoint.
   *
   * @param given values as text, by the names of parameters
   * @throws EngineException (INVALID) that names the parameter that is to blame
   */
  public Called call(CatalogObject.Endpoint endpoint, Map<String, String> given, Caller caller) {
    caller.need(Privilege.SELECT, endpoint);
    long began = System.nanoTime();
    By by = new By(endpoint.id(), caller.role());
    Figures noted = figures.computeIfAbsent(by, id -> new Figures());
    try (RunningScripts.Script running =
        runner.scripts().begin(null, "endpoint " + endpoint.name() + " " + given, caller)) {
      if (endpoint.maxRead() > 0) {
        running.mostRead(endpoint.maxRead());
      }
      Pages.Page page = answer(endpoint, values(endpoint, given), given.get(AFTER));
      running.goOn();
      noted.done(System.nanoTime() - began);
      return new Called(page.rows(), running.rowsRead(), page.next());
    } catch (RuntimeException e) {
      noted.failed();
      throw e;
    }
  }

  /**
   * The last epoch that changed anything an endpoint reads: as long as it stays, so do the answers.
   *
   * @return −1 if they depend on the time
   */
  public long version(CatalogObject.Endpoint endpoint) {
    long version = 0;
    boolean timed = SqlFrontEnd.asksTheClock(endpoint.query());
    for (long id : endpoint.dependsOn()) {
      LiveNode node = nodes.apply(id);
      version = Math.max(version, node == null ? 0 : node.lastEpoch());
      timed |=
          catalog.get().find(id) instanceof CatalogObject.View view
              && SqlFrontEnd.asksTheClock(view.query());
    }
    return timed ? -1 : version;
  }

  /** What calls of an endpoint took since the start, all roles together. */
  public Taken taken(CatalogObject.Endpoint endpoint) {
    Figures all = new Figures();
    figures.forEach(
        (by, each) -> {
          if (by.endpoint == endpoint.id()) {
            each.addTo(all);
          }
        });
    return all.taken();
  }

  /** The same of each role that has called it. */
  public Map<String, Taken> takenByRole(CatalogObject.Endpoint endpoint) {
    Map<String, Taken> all = new TreeMap<>();
    figures.forEach(
        (by, each) -> {
          if (by.endpoint == endpoint.id()) {
            all.put(by.role, each.taken());
          }
        });
    return all;
  }

  private Map<String, Object> values(CatalogObject.Endpoint endpoint, Map<String, String> given) {
    Map<String, Object> values = new LinkedHashMap<>();
    for (EndpointParameter p : endpoint.parameters()) {
      values.put(p.name(), value(endpoint, p, given));
    }
    for (String name : given.keySet()) {
      if (!values.containsKey(name) && !(endpoint.pageRows() > 0 && name.equals(AFTER))) {
        throw new EngineException(
            Code.INVALID,
            "endpoint " + endpoint.name() + " has no parameter \"" + name + "\"",
            "it has " + parameters(endpoint));
      }
    }
    return values;
  }

  private static String parameters(CatalogObject.Endpoint endpoint) {
    return endpoint.parameters().isEmpty()
        ? "none"
        : endpoint.parameters().stream()
            .map(EndpointParameter::name)
            .collect(Collectors.joining(", "));
  }

  private static Object value(
      CatalogObject.Endpoint endpoint, EndpointParameter p, Map<String, String> given) {
    String text = given.get(p.name());
    if (text == null) {
      if (p.required()) {
        throw new EngineException(
            Code.INVALID,
            "parameter \"" + p.name() + "\" of endpoint " + endpoint.name() + " is missing",
            "it is a " + p.type().sql() + (p.comment() == null ? "" : ": " + p.comment()));
      }
      return p.optional() ? Argument.ABSENT : new Argument(p.type(), p.defaultValue());
    }
    try {
      return new Argument(p.type(), Casts.parse(text, p.type()));
    } catch (RuntimeException e) {
      throw new EngineException(
          Code.INVALID,
          "parameter \"" + p.name() + "\": " + e.getMessage(),
          "it is a " + p.type().sql() + (p.comment() == null ? "" : ": " + p.comment()));
    }
  }

  private Pages.Page answer(
      CatalogObject.Endpoint endpoint, Map<String, Object> values, String after) {
    Call call = new Call(endpoint.id(), values, after);
    long kept = endpoint.cacheMillis() * 1_000_000;
    Answer known = kept == 0 ? null : answers.get(call);
    if (known != null && System.nanoTime() - known.atNanos < kept) {
      runner.bounded(known.page.rows());
      return known.page;
    }
    try (Pinned now = pin.get()) {
      Command.QueryPlan plan = plan(endpoint, call);
      int rows = endpoint.pageRows();
      Pages.Page page =
          rows > 0
              ? Pages.page(runner, plan, rows, after, now.snapshot())
              : new Pages.Page(runner.answer(plan, now.snapshot(), endpoint.maxRows()), null);
      if (kept > 0) {
        answers.put(call, new Answer(page, System.nanoTime()));
      }
      return page;
    }
  }

  private Command.QueryPlan plan(CatalogObject.Endpoint endpoint, Call call) {
    Catalog now = catalog.get();
    for (EndpointParameter p : endpoint.parameters()) {
      if (p.check() != null && call.values.get(p.name()) instanceof Argument a) {
        check(endpoint, p, a);
      }
    }
    return plan(endpoint.query(), call.values, now);
  }

  /** The plan of a query, made for its values only if it cannot be made for all. */
  private Command.QueryPlan plan(String query, Map<String, Object> values, Catalog over) {
    Command.QueryPlan known = prepared.find(query, values, MAKER, over);
    if (known != null) {
      return known;
    }
    SqlFrontEnd.Parsed parsed = frontEnd.parse(query).get(0);
    Command command = frontEnd.check(parsed, over, values, nowMicros.getAsLong());
    prepared.asked(query, values, MAKER, over);
    return ((Command.Query) command).plan();
  }

  private void check(CatalogObject.Endpoint endpoint, EndpointParameter p, Argument value) {
    if (value.value() == null) {
      return; // as a CHECK of the standard lets NULL pass
    }
    Map<String, Object> values = new HashMap<>();
    values.put(p.name(), value);
    String query = SqlFrontEnd.checkQuery(p.name(), p.check());
    Command.QueryPlan plan = plan(query, values, Catalog.EMPTY);
    try (Pinned now = pin.get()) {
      List<Object[]> rows = runner.answer(plan, now.snapshot()).rows();
      if (Boolean.FALSE.equals(rows.get(0)[0])) {
        throw new EngineException(
            Code.INVALID,
            "parameter \""
                + p.name()
                + "\" of endpoint "
                + endpoint.name()
                + " must be such that "
                + p.check(),
            p.comment());
      }
    }
  }

  /** The times of the last calls of one endpoint. */
  private static final class Figures {
    private final long[] nanos = new long[SAMPLES];
    private long calls;
    private long errors;

    synchronized void done(long took) {
      nanos[(int) (calls++ % SAMPLES)] = took;
    }

    synchronized void failed() {
      errors++;
    }

    synchronized void addTo(Figures all) {
      int times = (int) Math.min(calls, SAMPLES);
      for (int i = 0; i < times; i++) {
        all.done(nanos[i]);
      }
      all.calls += calls - times;
      all.errors += errors;
    }

    synchronized Taken taken() {
      long[] sorted = Arrays.copyOf(nanos, (int) Math.min(calls, SAMPLES));
      Arrays.sort(sorted);
      return new Taken(calls + errors, errors, at(sorted, 0.5), at(sorted, 0.99));
    }

    private static double at(long[] sorted, double share) {
      return sorted.length == 0
          ? 0
          : Math.round(sorted[(int) ((sorted.length - 1) * share)] / 1e3) / 1e3;
    }
  }

  /** All endpoints that somebody may call, in the order they were made. */
  public List<CatalogObject.Endpoint> all(Caller caller) {
    List<CatalogObject.Endpoint> all = new ArrayList<>();
    for (CatalogObject object : caller.catalog(catalog.get()).all()) {
      if (object instanceof CatalogObject.Endpoint endpoint) {
        all.add(endpoint);
      }
    }
    return all;
  }
}
