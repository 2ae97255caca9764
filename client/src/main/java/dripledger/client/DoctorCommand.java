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
  private static final double MOST_HELD = 0.85; // of what views may hold
  private static final long OLD_CHECKPOINT_MILLIS = 60_000;

  @ParentCommand private Drip drip;

  private final List<String> findings = new ArrayList<>();

  @Override
  public Integer call() throws IOException, InterruptedException {
    Service service = drip.service();
    Map<String, Object> state;
    try {
      state = service.get("/api/v1/objects");
    } catch (Problem e) {
      findings.add(
          "The service does not answer at "
              + drip.url()
              + ". Start it with drip up; its log, "
              + new Installation().serviceLog()
              + ", says why it ended."
              + (new Installation().postgresRuns() ? "" : " Its PostgreSQL is stopped too."));
      return tell();
    }
    ailment(service);
    room(state);
    checkpoint((Map<?, ?>) state.get("checkpoint"));
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

  /** Whether the engine does its work at all. */
  private void ailment(Service service) throws IOException {
    try {
      service.get("/actuator/health");
    } catch (Problem e) {
      findings.add(
          "The service says that it is not well ("
              + drip.url()
              + "/actuator/health tells more). If it does not get well, drip down and drip up; nothing"
              + " is lost.");
    }
  }

  private void room(Map<String, Object> state) {
    long held = number(state, "held_bytes");
    long most = number(state, "held_bytes_max");
    if (most > 0 && held > MOST_HELD * most) {
      findings.add(
          "Views hold "
              + StatusCommand.bytes(held)
              + " of the "
              + StatusCommand.bytes(most)
              + " they may; at the bound inputs wait. SHOW VIEWS says which hold most; bound their"
              + " state, drop one, or give the service more heap.");
    }
    if (number(state, "ended_reads") > 0) {
      findings.add(
          number(state, "ended_reads")
              + " long reads were ended since the start because too much was kept for them. Ask for"
              + " less at once, or raise drip.max-held-bytes.");
    }
  }

  private void checkpoint(Map<?, ?> c) {
    if (c.get("failure") != null) {
      findings.add(
          "The last checkpoint failed: "
              + c.get("failure")
              + ". It is tried again; until one is made a restart takes longer and sources keep more"
              + " for us. Does PostgreSQL answer, and is there room on its disk?");
    } else if (c.get("epoch") != null && number(c, "age_ms") > OLD_CHECKPOINT_MILLIS) {
      findings.add(
          "The last checkpoint is "
              + number(c, "age_ms") / 1000
              + " s old. Is PostgreSQL slow, or does a refresh take so long?");
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
    } else if (!health.equals("ok") && !health.equals("loading")) {
      findings.add(
          capital(name)
              + " is not well: "
              + health
              + (health.startsWith("stopped")
                  ? ". Mend what is wrong, then make it anew, or REFRESH TABLE."
                  : "."));
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
