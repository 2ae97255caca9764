package dripledger.client;

import java.io.IOException;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.concurrent.Callable;
import picocli.CommandLine.Command;
import picocli.CommandLine.ParentCommand;

/** Reads all that tells how the service does, and says what is wrong and what to do about it. */
@Command(
    name = "doctor",
    mixinStandardHelpOptions = true,
    description = {
      "Says in sentences what is wrong and what to do.",
      "Ends with 0 if nothing is, with 1 if something needs a look."
    })
final class DoctorCommand implements Callable<Integer> {
  @ParentCommand private Drip drip;

  private final List<String> findings = new ArrayList<>();

  @Override
  public Integer call() throws IOException, InterruptedException {
    Service service = drip.service();
    Map<String, Object> state;
    try {
      state = service.get("/api/v1/objects");
    } catch (Problem e) {
      if (e.exitCode() != Problem.UNREACHABLE) {
        throw e; // it answers, and does not want to tell
      }
      findings.add(
          "The service does not answer at "
              + drip.url()
              + ". Start it with drip up; its log, "
              + new Installation().serviceLog()
              + ", says why it ended."
              + (new Installation().postgresRuns() ? "" : " Its PostgreSQL is stopped too."));
      return tell();
    }
    own(service);
    for (Object object : (List<?>) state.get("objects")) {
      object((Map<?, ?>) object);
    }
    connections(service);
    fresh(service);
    return tell();
  }

  private int tell() {
    if (findings.isEmpty()) {
      System.out.println("Nothing is wrong.");
      return 0;
    }
    findings.forEach(finding -> System.out.println("- " + finding));
    return 1;
  }

  /** What the service finds of itself. */
  private void own(Service service) throws IOException {
    for (Object each : (List<?>) service.get("/api/v1/findings").get("findings")) {
      findings.add(String.valueOf(((Map<?, ?>) each).get("text")));
    }
  }

  private void object(Map<?, ?> o) {
    String name = o.get("kind") + " " + o.get("name");
    String health = o.get("health") == null ? "ok" : String.valueOf(o.get("health"));
    if (health.startsWith("failing") && o.get("delivery") instanceof Map<?, ?> delivery) {
      findings.add(
          capital(name)
              + " is "
              + health
              + ". "
              + number(delivery, "waiting_rows")
              + " rows wait; they are sent once the target takes them.");
    } else if (!health.equals("ok") && !health.equals("loading") && !health.startsWith("stopped")) {
      findings.add(capital(name) + " is not well: " + health + ".");
    }
    long rejects = number(o, "rejects");
    if (rejects > 0) {
      findings.add(
          capital(name)
              + " has "
              + rejects
              + (rejects == 1 ? " reject" : " rejects")
              + ", which its views are without. drip rejects "
              + o.get("name")
              + " shows why; they can be mended and replayed.");
    }
  }

  private void connections(Service service) throws IOException {
    for (List<?> row : rows(service, "SHOW CONNECTIONS")) {
      if (!"ok".equals(row.get(4))) {
        findings.add("Connection " + row.get(0) + " does not work: " + row.get(4) + ".");
      }
    }
  }

  private void fresh(Service service) throws IOException {
    String late =
        "SELECT view, COUNT(*) AS minutes FROM drip.freshness WHERE in_time < shown GROUP BY view";
    for (List<?> row : rows(service, late)) {
      findings.add(
          "View "
              + row.get(0)
              + " was not as fresh as its fresh_within wants in "
              + row.get(1)
              + " of the minutes that are kept; SELECT * FROM drip.freshness WHERE view = '"
              + row.get(0)
              + "' says when.");
    }
  }

  private static List<List<?>> rows(Service service, String sql) throws IOException {
    List<List<?>> rows = new ArrayList<>();
    for (Object row : (List<?>) service.sql(sql, Map.of()).get(0).get("rows")) {
      rows.add((List<?>) row);
    }
    return rows;
  }

  private static String capital(String text) {
    return Character.toUpperCase(text.charAt(0)) + text.substring(1);
  }

  private static long number(Map<?, ?> map, String name) {
    return map.get(name) instanceof Number n ? n.longValue() : 0;
  }
}
