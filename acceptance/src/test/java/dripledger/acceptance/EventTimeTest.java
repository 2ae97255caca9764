package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.time.Instant;
import java.util.ArrayList;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import org.junit.jupiter.api.DynamicContainer;
import org.junit.jupiter.api.DynamicTest;
import org.junit.jupiter.api.TestFactory;
import org.junit.jupiter.api.function.Executable;
import org.junit.jupiter.api.parallel.ResourceLock;

/** Windows of event time over a topic of several partitions, through the client and with kills. */
@ResourceLock(SourceTest.ONE)
class EventTimeTest extends SourceTest {
  private void scan(int partition, String gate, String clock) {
    send("timed", partition, "\"gate\":\"" + gate + "\"", clock);
  }

  private void send(String topic, int partition, String fields, String clock) {
    hub.sendAt(
        topic,
        partition,
        System.currentTimeMillis(), // what is older than a week the broker forgets
        "{%s,\"at\":\"2026-03-02T%sZ\"}".formatted(fields, clock));
  }

  /** Each of them in steps, between which the service is killed. */
  @TestFactory
  List<DynamicContainer> whatIsTimedStaysRightThroughKills() {
    Map<String, List<Executable>> all = new LinkedHashMap<>();
    all.put(
        "windowsSettleByTheSlowestPartitionAndStaySettledWhenKilled",
        windowsSettleByTheSlowestPartitionAndStaySettledWhenKilled());
    all.put(
        "whatCameTooLateIsKeptOnceAndTakenByAnotherStreamThroughKills",
        whatCameTooLateIsKeptOnceAndTakenByAnotherStreamThroughKills());
    all.put(
        "whoIsMissedIsKnownWhenNobodyCanComeAnyMoreAndSpellsGrowTogether",
        whoIsMissedIsKnownWhenNobodyCanComeAnyMoreAndSpellsGrowTogether());
    all.put(
        "whatCirclesIsFoundWhateverOrderItComesInAndIsPutOutOnce",
        whatCirclesIsFoundWhateverOrderItComesInAndIsPutOutOnce());
    all.put(
        "aRowMeetsWhatATableWasWhenItWasCommittedAtItsSource",
        aRowMeetsWhatATableWasWhenItWasCommittedAtItsSource());
    all.put(
        "rowsLeaveWhenTheirTimeIsOverThoughNothingComes",
        rowsLeaveWhenTheirTimeIsOverThoughNothingComes());
    List<DynamicContainer> kills = new ArrayList<>();
    for (int kill = 0; all.values().stream().mapToInt(List::size).max().orElse(0) > kill; kill++) {
      List<DynamicTest> steps = new ArrayList<>();
      if (kill > 0) {
        steps.add(
            DynamicTest.dynamicTest(
                "killed and started",
                () -> {
                  service.kill();
                  service.start();
                }));
      }
      int step = kill;
      all.forEach(
          (name, parts) -> {
            if (parts.size() > step) {
              steps.add(DynamicTest.dynamicTest(name, parts.get(step)));
            }
          });
      kills.add(DynamicContainer.dynamicContainer("after " + kill + " kills", steps));
    }
    return kills;
  }

  private List<Executable> windowsSettleByTheSlowestPartitionAndStaySettledWhenKilled() {
    String now = "SELECT gate, n FROM timed_now ORDER BY window_end, gate";
    String settled = "SELECT gate, n FROM timed_final ORDER BY window_end, gate";
    return List.of(
        () -> {
          hub.topic("timed", 2);
          service.sql(
              "CREATE STREAM timed (gate VARCHAR, at TIMESTAMP NOT NULL,"
                  + " EVENT TIME at LATENESS INTERVAL '10' SECOND) FROM hub_log (topic 'timed') FORMAT json");
          String counts =
              " AS SELECT window_start, window_end, gate, COUNT(*) AS n FROM TABLE(TUMBLE(TABLE timed,"
                  + " DESCRIPTOR(at), INTERVAL '1' MINUTE)) GROUP BY window_start, window_end, gate";
          service.sql(
              "CREATE MATERIALIZED VIEW timed_now"
                  + counts
                  + "; CREATE MATERIALIZED VIEW timed_final OPTIONS (rows 'settled')"
                  + counts);
          scan(0, "G1", "06:00:05");
          scan(0, "G1", "06:00:50");
          scan(0, "G1", "06:02:30"); // far ahead of the other
          scan(1, "G2", "06:00:10");
          expect(now, "[[G1, 2], [G2, 1], [G1, 1]]");
          expect("SELECT COUNT(*) FROM timed_final", "[[0]]");
        },
        () -> {
          scan(1, "G2", "06:00:20"); // behind everything, and in time where it comes from
          scan(0, "G1", "06:00:59"); // late where it comes from
          expect(now, "[[G1, 2], [G2, 2], [G1, 1]]");
          scan(1, "G2", "06:01:30");
          expect(settled, "[[G1, 2], [G2, 2]]");
        },
        () -> {
          expect(settled, "[[G1, 2], [G2, 2]]");
          scan(1, "G2", "06:02:20");
          expect(settled, "[[G1, 2], [G2, 2], [G2, 1]]");

          expect(
              "SELECT step, rows FROM drip.late WHERE view = 'timed_final'",
              "[[windows of 1 minute by at, without late rows, 1]]");
          assertThat(service.drip("", "sql", "SHOW VIEWS").out())
              .containsPattern("timed_final +materialized view +3 .* 2026-03-02 06:02:10 +1 ");
          assertThat(service.drip("", "sql", "EXPLAIN timed_final").out())
              .contains("groups until the watermark has reached window_start and 1 minute more");
          service.sql("DROP MATERIALIZED VIEW timed_final; DROP MATERIALIZED VIEW timed_now");
        });
  }

  private List<Executable> whatCameTooLateIsKeptOnceAndTakenByAnotherStreamThroughKills() {
    String late = "SELECT object, reason, origin, raw FROM drip.rejects WHERE object LIKE '%e%t%'";
    String one =
        "[[kept, too late by 50 seconds, windows of 1 minute by at, without late rows,"
            + " {\"gate\":\"G1\",\"weight\":\"4.25\",\"at\":\"2026-03-02T06:00:30Z\"}]]";
    return List.of(
        () -> {
          hub.topic("tardy", 1);
          service.sql(
              "CREATE STREAM tardy (gate VARCHAR, weight DECIMAL(6, 2), note VARCHAR, at TIMESTAMP NOT NULL,"
                  + " EVENT TIME at LATENESS INTERVAL '10' SECOND) FROM hub_log (topic 'tardy') FORMAT json;"
                  + " CREATE STREAM recalled (gate VARCHAR, weight DECIMAL(6, 2), at TIMESTAMP NOT NULL)");
          String windows =
              " AS SELECT window_end, gate, SUM(weight) AS kg FROM TABLE(TUMBLE(TABLE tardy,"
                  + " DESCRIPTOR(at), INTERVAL '1' MINUTE)) GROUP BY window_start, window_end, gate";
          service.sql(
              "CREATE MATERIALIZED VIEW counted OPTIONS (rows 'settled')"
                  + windows
                  + "; CREATE MATERIALIZED VIEW kept OPTIONS (rows 'settled', late_rows 'keep')"
                  + windows
                  + "; CREATE MATERIALIZED VIEW corrected AS SELECT window_end, gate, SUM(kg) AS kg FROM ("
                  + "SELECT window_end, gate, kg FROM kept UNION ALL SELECT FLOOR(at TO MINUTE) + INTERVAL '1'"
                  + " MINUTE, gate, weight FROM recalled) GROUP BY window_end, gate");
          send("tardy", 0, "\"gate\":\"G1\",\"weight\":1.5", "06:00:05");
          send("tardy", 0, "\"gate\":\"G1\",\"weight\":2", "06:02:00");
          send("tardy", 0, "\"gate\":\"G1\",\"weight\":4.25,\"note\":\"x\"", "06:00:30");
          expect(late, one);
        },
        () -> {
          expect(late, one);
          service.sql("CREATE TABLE between_checkpoints (id BIGINT PRIMARY KEY)"); // makes one
          expect(
              "SELECT COUNT(*) FROM drip.rejects WHERE object = 'kept' AND id IS NOT NULL",
              "[[1]]");
        },
        () -> {
          expect(late, one);
          assertThat(service.drip("", "rejects", "kept").out()).contains("too late by 50 seconds");
          assertThat(service.drip("", "rejects", "kept", "--replay").err())
              .contains("what \"kept\" left out must be taken by another stream");
          assertThat(service.drip("", "rejects", "tardy", "--replay", "--into", "recalled").err())
              .contains("what stream \"tardy\" has rejected is for itself");
          assertThat(service.drip("", "rejects", "kept", "--replay", "--into", "recalled").out())
              .contains("1 taken in");
          expect("SELECT gate, kg FROM corrected", "[[G1, 5.75]]");
        },
        () -> {
          expect("SELECT gate, kg FROM corrected", "[[G1, 5.75]]");
          expect("SELECT gate, kg FROM kept", "[[G1, 1.50]]");
          expect("SELECT COUNT(*) FROM drip.rejects WHERE object = 'kept'", "[[0]]");
          expect("SELECT view, rows FROM drip.late WHERE view = 'kept'", "[[kept, 1]]");
          service.sql(
              "DROP MATERIALIZED VIEW corrected; DROP MATERIALIZED VIEW kept; DROP MATERIALIZED VIEW counted;"
                  + " DROP TABLE between_checkpoints");
        });
  }

  private List<Executable> whoIsMissedIsKnownWhenNobodyCanComeAnyMoreAndSpellsGrowTogether() {
    String spells = "SELECT van, parcels FROM spells ORDER BY window_start";
    return List.of(
        () -> {
          hub.topic("left", 1);
          hub.topic("loaded", 2);
          service.sql(
              "CREATE STREAM left_hall (parcel BIGINT, at TIMESTAMP NOT NULL, EVENT TIME at LATENESS"
                  + " INTERVAL '10' SECOND) FROM hub_log (topic 'left') FORMAT json;"
                  + " CREATE STREAM loaded (parcel BIGINT, van VARCHAR, at TIMESTAMP NOT NULL, EVENT TIME at"
                  + " LATENESS INTERVAL '10' SECOND) FROM hub_log (topic 'loaded') FORMAT json;"
                  + " CREATE MATERIALIZED VIEW missed OPTIONS (rows 'settled') AS SELECT parcel, at FROM"
                  + " left_hall AS s WHERE NOT EXISTS (SELECT 1 FROM loaded AS h WHERE h.parcel = s.parcel AND"
                  + " h.at BETWEEN s.at AND s.at + INTERVAL '5' MINUTE);"
                  + " CREATE MATERIALIZED VIEW spells AS SELECT van, window_start, COUNT(*) AS parcels FROM"
                  + " TABLE(SESSION(TABLE loaded PARTITION BY van, DESCRIPTOR(at), INTERVAL '1' MINUTE))"
                  + " GROUP BY van, window_start, window_end");
          send("left", 0, "\"parcel\":1", "06:00:00");
          send("left", 0, "\"parcel\":2", "06:00:05");
          send("loaded", 0, "\"parcel\":9,\"van\":\"V1\"", "06:00:00");
          send("loaded", 0, "\"parcel\":8,\"van\":\"V1\"", "06:01:30");
          expect(spells, "[[V1, 1], [V1, 1]]");
        },
        () -> {
          send("loaded", 1, "\"parcel\":1,\"van\":\"V1\"", "06:00:45"); // between the two
          expect(spells, "[[V1, 3]]");
          send("left", 0, "\"parcel\":3", "06:05:15"); // its watermark: 06:05:05
          send("loaded", 0, "\"parcel\":7,\"van\":\"V2\"", "06:06:00");
          expect("SELECT COUNT(*) FROM spells", "[[2]]");
          expect(
              "SELECT COUNT(*) FROM missed",
              "[[0]]"); // the other partition may still bring parcel 2
          send("loaded", 1, "\"parcel\":6,\"van\":\"V2\"", "06:06:10");
          send("left", 0, "\"parcel\":4", "06:05:16");
          expect("SELECT parcel FROM missed", "[[2]]");
        },
        () -> {
          expect("SELECT parcel FROM missed", "[[2]]");
          assertThat(service.drip("", "sql", "EXPLAIN missed").out())
              .contains("put out when the watermark has passed at and 5 minutes more")
              .contains("rows of the first that meet none")
              .contains("first until the watermark has passed at and 5 minutes more");
          service.sql("DROP MATERIALIZED VIEW missed; DROP MATERIALIZED VIEW spells");
        });
  }

  private List<Executable> whatCirclesIsFoundWhateverOrderItComesInAndIsPutOutOnce() {
    String prices = "SELECT cents FROM prices ORDER BY at";
    return List.of(
        () -> {
          hub.topic("passed", 2);
          hub.topic("priced", 1);
          service.sql(
              "CREATE STREAM passed (parcel BIGINT, gate VARCHAR, at TIMESTAMP NOT NULL, EVENT TIME at LATENESS"
                  + " INTERVAL '1' MINUTE) FROM hub_log (topic 'passed') FORMAT json;"
                  + " CREATE STREAM priced (gate VARCHAR, cents BIGINT, at TIMESTAMP NOT NULL, EVENT TIME at"
                  + " LATENESS INTERVAL '1' MINUTE) FROM hub_log (topic 'priced') FORMAT json;"
                  + " CREATE MATERIALIZED VIEW circles AS SELECT parcel, gate, passes FROM passed MATCH_RECOGNIZE"
                  + " (PARTITION BY parcel ORDER BY at MEASURES pass.gate AS gate, COUNT(*) AS passes PATTERN"
                  + " (pass (elsewhere*? back){2}) WITHIN INTERVAL '10' MINUTE DEFINE back AS back.gate ="
                  + " pass.gate);"
                  + " CREATE MATERIALIZED VIEW prices AS SELECT p.parcel, p.at, r.cents FROM passed AS p LEFT JOIN"
                  + " LATERAL (SELECT cents FROM priced WHERE priced.gate = p.gate AND priced.at <= p.at ORDER BY"
                  + " priced.at DESC, cents LIMIT 1) AS r ON TRUE");
          send("passed", 0, "\"parcel\":1,\"gate\":\"G1\"", "06:01:00");
          send("passed", 1, "\"parcel\":1,\"gate\":\"G1\"", "06:00:00");
          send("passed", 1, "\"parcel\":1,\"gate\":\"G2\"", "06:00:30");
          send("priced", 0, "\"gate\":\"G1\",\"cents\":5", "05:59:00");
          expect(prices, "[[5], [null], [5]]");
        },
        () -> {
          send("passed", 0, "\"parcel\":1,\"gate\":\"G1\"", "06:00:40");
          send(
              "priced",
              0,
              "\"gate\":\"G1\",\"cents\":7",
              "06:00:35"); // between those it changes and not
          expect(prices, "[[5], [null], [7], [7]]");
          expect("SELECT COUNT(*) FROM circles", "[[0]]");
          send("passed", 0, "\"parcel\":2,\"gate\":\"G1\"", "06:02:01");
          send("passed", 1, "\"parcel\":3,\"gate\":\"G1\"", "06:02:01"); // the watermark: 06:01:01
          expect("SELECT * FROM circles", "[[1, G1, 4]]");
        },
        () -> {
          send("passed", 1, "\"parcel\":2,\"gate\":\"G1\"", "06:03:30");
          send("passed", 0, "\"parcel\":2,\"gate\":\"G1\"", "06:04:00");
          send("passed", 1, "\"parcel\":4,\"gate\":\"G1\"", "06:30:00");
          send("passed", 0, "\"parcel\":5,\"gate\":\"G1\"", "06:30:00");
          expect("SELECT * FROM circles ORDER BY parcel", "[[1, G1, 4], [2, G1, 3]]");
          assertThat(service.drip("", "sql", "EXPLAIN circles").out())
              .contains("matches of pass (elsewhere*? back){2} of each parcel ordered by at")
              .contains("rows until the watermark has passed at and 10 minutes more");
          expect(
              "SELECT watermark, highest_at FROM drip.watermarks WHERE name = 'circles'",
              "[[2026-03-02T06:29:00Z, 2026-03-02T06:30:00Z]]");
          assertThat(
                  service
                      .drip(
                          "",
                          "sql",
                          "EXPLAIN CREATE MATERIALIZED VIEW by_gate AS SELECT gate, COUNT(*) AS n FROM passed"
                              + " GROUP BY gate")
                      .out())
              .containsPattern("rows_hour +bytes_hour +rows_day +bytes_day +rows_last +bytes_last")
              .contains("as seen of 10 events of 30 minutes");
          service.sql("DROP MATERIALIZED VIEW circles; DROP MATERIALIZED VIEW prices");
        });
  }

  private void weighed(int parcel, Instant at) {
    hub.sendAt(
        "weighed",
        0,
        System.currentTimeMillis(),
        "{\"parcel\":%d,\"gate\":\"G1\",\"at\":\"%s\"}".formatted(parcel, at));
  }

  private List<Executable> aRowMeetsWhatATableWasWhenItWasCommittedAtItsSource() {
    Instant[] first = new Instant[1];
    Instant[] between = new Instant[1];
    return List.of(
        () -> {
          hub.topic("weighed", 1);
          hub.execute(
              "CREATE TABLE gate_fee (gate text PRIMARY KEY, cents integer)",
              "INSERT INTO gate_fee VALUES ('G1', 5)");
          service.sql(
              "CREATE TABLE gate_fee FROM hub_ops (table 'public.gate_fee');"
                  + " CREATE STREAM weighed (parcel BIGINT, gate VARCHAR, at TIMESTAMP NOT NULL, EVENT TIME at"
                  + " LATENESS INTERVAL '2' HOUR) FROM hub_log (topic 'weighed') FORMAT json;"
                  + " CREATE MATERIALIZED VIEW fees AS SELECT w.parcel, f.cents FROM weighed AS w LEFT JOIN"
                  + " gate_fee FOR SYSTEM_TIME AS OF w.at AS f ON f.gate = w.gate");
          first[0] = Instant.now();
          weighed(1, first[0].minusSeconds(1800));
          expect("SELECT * FROM fees ORDER BY parcel", "[[1, 5]]");
          hub.execute("UPDATE gate_fee SET cents = 7");
          between[0] = Instant.now();
          hub.execute("UPDATE gate_fee SET cents = 9", "DELETE FROM gate_fee");
          weighed(2, between[0]);
          weighed(3, Instant.now().plusSeconds(1800));
          expect("SELECT * FROM fees ORDER BY parcel", "[[1, 5], [2, 7], [3, null]]");
        },
        () -> {
          hub.execute("INSERT INTO gate_fee VALUES ('G1', 11)");
          weighed(4, between[0]);
          weighed(5, Instant.now().plusSeconds(1800));
          weighed(6, first[0].minusSeconds(60));
          expect(
              "SELECT * FROM fees ORDER BY parcel",
              "[[1, 5], [2, 7], [3, 11], [4, 7], [5, 11], [6, 5]]");
          assertThat(service.drip("", "sql", "EXPLAIN fees").out())
              .contains("what the rows of gate_fee have been");
          service.sql("DROP MATERIALIZED VIEW fees; DROP TABLE gate_fee");
        });
  }

  private List<Executable> rowsLeaveWhenTheirTimeIsOverThoughNothingComes() {
    return List.of(
        () -> {
          service.sql(
              "CREATE TABLE promise (parcel BIGINT PRIMARY KEY, until TIMESTAMP);"
                  + " CREATE MATERIALIZED VIEW open_promise AS SELECT parcel FROM promise WHERE until >"
                  + " CURRENT_TIMESTAMP");
          service.sql(
              "INSERT INTO promise VALUES (1, CURRENT_TIMESTAMP + INTERVAL '4' SECOND),"
                  + " (2, CURRENT_TIMESTAMP + INTERVAL '1' HOUR)");
          expect("SELECT parcel FROM open_promise ORDER BY parcel", "[[1], [2]]");
          expect("SELECT parcel FROM open_promise ORDER BY parcel", "[[2]]");
        },
        () -> {
          expect("SELECT parcel FROM open_promise", "[[2]]");
          service.sql("UPDATE promise SET until = CURRENT_TIMESTAMP - INTERVAL '1' SECOND");
          expect("SELECT COUNT(*) FROM open_promise", "[[0]]");
          service.sql("DROP MATERIALIZED VIEW open_promise; DROP TABLE promise");
        });
  }
}
