package dripledger.demo;

import java.util.List;

/** The hub's statements, in the order they build on each other. */
public final class Scenario {
  /** Declares the hub's streams, table and views; run once on an empty service. */
  public static final List<String> STATEMENTS =
      List.of(
          """
          CREATE STREAM scan (
            parcel   BIGINT NOT NULL,
            gate     VARCHAR NOT NULL,
            at       TIMESTAMP NOT NULL,
            grams    INTEGER,
            scanner  ROW(id VARCHAR, battery DOUBLE),
            seen_at  TIMESTAMP META arrived_at,
            EVENT TIME at LATENESS INTERVAL '30' SECOND
          )""",
          """
          CREATE STREAM handoff (
            parcel  BIGINT NOT NULL,
            van     VARCHAR NOT NULL,
            at      TIMESTAMP NOT NULL,
            EVENT TIME at LATENESS INTERVAL '30' SECOND
          )""",
          """
          CREATE TABLE gate (
            gate                 VARCHAR PRIMARY KEY,
            hall                 VARCHAR NOT NULL,
            capacity_per_minute  INTEGER NOT NULL
          )""",
          """
          CREATE VIEW scan_checked AS
          SELECT parcel, gate, at, grams, scanner.id AS scanner, scanner.battery AS battery
          FROM scan
          WHERE grams > 0""",
          """
          CREATE MATERIALIZED VIEW gate_load AS
          SELECT gate, date_trunc('minute', at) AS window_minute,
                 COUNT(*) AS scans, ROUND(AVG(grams)) AS mean_grams
          FROM scan_checked
          GROUP BY gate, date_trunc('minute', at)""",
          """
          CREATE MATERIALIZED VIEW parcel_now AS
          SELECT parcel, MAX_BY(gate, at) AS gate, MAX(at) AS at, COUNT(*) AS scans
          FROM scan
          GROUP BY parcel""",
          """
          CREATE MATERIALIZED VIEW hall_load AS
          SELECT CASE WHEN gate < 'G09' THEN 'North' WHEN gate < 'G17' THEN 'Middle' ELSE 'South' END AS hall,
                 window_minute, SUM(scans) AS scans, MAX(scans) AS busiest_gate_scans
          FROM gate_load
          GROUP BY CASE WHEN gate < 'G09' THEN 'North' WHEN gate < 'G17' THEN 'Middle' ELSE 'South' END,
                   window_minute""",
          """
          CREATE MATERIALIZED VIEW hall_capacity AS
          SELECT hall, COUNT(*) AS gates, SUM(capacity_per_minute) AS capacity_per_minute
          FROM gate
          GROUP BY hall""",
          """
          CREATE MATERIALIZED VIEW scanner_battery AS
          SELECT scanner, MAX_BY(battery, at) AS battery, COUNT(*) AS scans, MAX(at) AS last_at
          FROM scan_checked
          WHERE scanner IS NOT NULL
          GROUP BY scanner""",
          gates());

  private Scenario() {}

  private static String gates() {
    StringBuilder insert = new StringBuilder("INSERT INTO gate VALUES");
    for (int g = 1; g <= ScanGenerator.GATES; g++) {
      String hall = g < 9 ? "North" : g < 17 ? "Middle" : "South";
      insert
          .append(g == 1 ? " " : ", ")
          .append(String.format("('G%02d', '%s', %d)", g, hall, 40 + g * 7 % 5 * 20));
    }
    return insert.toString();
  }
}
