package dripledger.demo;

import java.util.ArrayList;
import java.util.List;

/** The hub's statements, in the order they build on each other. */
public final class Scenario {
  /**
   * Declares the hub's connections, streams, tables and views; run once on an empty service that
   * has the secret {@code hub_ops_password}.
   *
   * @param servers HOST:PORT of the broker
   * @param operationsUrl the JDBC URL of the operations database
   * @param carrierUrl where the carrier takes what is posted
   */
  public static List<String> statements(String servers, String operationsUrl, String carrierUrl) {
    List<String> all = new ArrayList<>();
    all.add("CREATE CONNECTION hub_log TYPE kafka OPTIONS (bootstrap_servers '" + servers + "')");
    all.add(
        "CREATE CONNECTION hub_ops TYPE postgres OPTIONS (url '"
            + operationsUrl
            + "', user 'drip', password SECRET hub_ops_password)");
    all.add("CREATE CONNECTION fernway TYPE webhook OPTIONS (url '" + carrierUrl + "')");
    all.addAll(RELATIONS);
    all.addAll(SINKS);
    all.addAll(ROLES);
    return all;
  }

  /** Who reads and writes: the dispatchers, and the hand-held scanners. */
  private static final List<String> ROLES =
      List.of(
          "CREATE ROLE dispatch OPTIONS (statement_timeout '10 seconds', requests_per_second 200)",
          "GRANT SELECT ON gate_load, busiest_areas, gate_minutes TO dispatch",
          "CREATE ROLE scanner OPTIONS (max_body '1 mb')",
          "GRANT INSERT ON note TO scanner");

  private static final List<String> RELATIONS =
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
          ) FROM hub_log (topic 'hub.scan', start 'earliest') FORMAT json""",
          """
          CREATE STREAM handoff (
            parcel BIGINT NOT NULL,
            van    VARCHAR NOT NULL,
            at     TIMESTAMP NOT NULL,
            EVENT TIME at LATENESS INTERVAL '1' MINUTE
          ) FROM hub_log (topic 'hub.handoff') FORMAT json""",
          "CREATE STREAM note (at TIMESTAMP NOT NULL, body VARCHAR, EVENT TIME at)",
          "CREATE TABLE parcel FROM hub_ops (table 'public.parcel')",
          "CREATE TABLE gate FROM hub_ops (table 'public.gate')",
          "CREATE TABLE surcharge FROM hub_ops (table 'public.surcharge')",
          """
          CREATE VIEW scan_checked AS
          SELECT parcel, gate, at, grams, scanner.id AS scanner, scanner.battery AS battery
          FROM scan
          WHERE grams > 0""",
          """
          CREATE MATERIALIZED VIEW gate_load AS
          SELECT gate, window_start AS window_minute,
                 COUNT(*) AS scans, ROUND(AVG(grams)) AS mean_grams
          FROM TABLE(TUMBLE(TABLE scan_checked, DESCRIPTOR(at), INTERVAL '1' MINUTE))
          GROUP BY gate, window_start""",
          """
          CREATE MATERIALIZED VIEW parcel_now AS
          SELECT parcel, MAX_BY(gate, at) AS gate, MAX(at) AS at, COUNT(*) AS scans
          FROM scan
          GROUP BY parcel""",
          """
          CREATE MATERIALIZED VIEW hall_load AS
          SELECT g.hall, l.window_minute, SUM(l.scans) AS scans, MAX(l.scans) AS busiest_gate_scans
          FROM gate_load AS l
          JOIN gate AS g ON g.gate = l.gate
          GROUP BY g.hall, l.window_minute""",
          """
          CREATE MATERIALIZED VIEW busiest_gate_per_hall AS
          SELECT hall, gate, scans
          FROM (SELECT g.hall, l.gate, l.scans,
                       ROW_NUMBER() OVER (PARTITION BY g.hall ORDER BY l.scans DESC, l.gate) AS place
                FROM (SELECT gate, COUNT(*) AS scans FROM scan_checked GROUP BY gate) AS l
                JOIN gate AS g ON g.gate = l.gate) AS ranked
          WHERE place = 1""",
          """
          CREATE MATERIALIZED VIEW parcel_trail AS
          SELECT parcel, gate, at, gate_before, at_before, gate_before_that
          FROM (SELECT parcel, gate, at,
                       LEAD(gate) OVER trail AS gate_before, LEAD(at) OVER trail AS at_before,
                       LEAD(gate, 2) OVER trail AS gate_before_that,
                       ROW_NUMBER() OVER trail AS place
                FROM scan_checked
                WINDOW trail AS (PARTITION BY parcel ORDER BY at DESC, gate)) AS scans
          WHERE place = 1""",
          """
          CREATE MATERIALIZED VIEW overweight_charge AS
          SELECT s.parcel, s.at, p.service, s.grams, p.declared_grams,
                 ROUND((s.grams - p.declared_grams) * u.cents_per_kg / 1000, 2) AS cents
          FROM scan_checked AS s
          JOIN parcel AS p ON p.parcel_id = s.parcel
          JOIN surcharge FOR SYSTEM_TIME AS OF s.at AS u ON u.service = p.service
          WHERE s.grams > p.declared_grams AND s.grams > u.from_grams""",
          """
          CREATE MATERIALIZED VIEW lost_parcels AS
          SELECT p.parcel_id AS parcel, p.service, p.area
          FROM parcel AS p
          WHERE p.status = 'announced'
            AND NOT EXISTS (SELECT 1 FROM scan AS s WHERE s.parcel = p.parcel_id)""",
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
          """
          CREATE MATERIALIZED VIEW service_load AS
          SELECT service, status, COUNT(*) AS parcels, SUM(declared_grams) AS declared_grams
          FROM parcel
          GROUP BY service, status""",
          """
          CREATE MATERIALIZED VIEW van_load AS
          SELECT van, COUNT(*) AS handoffs, MAX(at) AS last_at
          FROM handoff
          GROUP BY van""",
          """
          CREATE MATERIALIZED VIEW van_sessions AS
          SELECT van, window_start, window_end, COUNT(*) AS parcels
          FROM TABLE(SESSION(TABLE handoff PARTITION BY van, DESCRIPTOR(at), INTERVAL '1' MINUTE))
          GROUP BY van, window_start, window_end""",
          """
          CREATE MATERIALIZED VIEW missed_van OPTIONS (rows 'settled', keep '1 day') AS
          SELECT s.parcel, s.gate, s.at
          FROM scan AS s
          WHERE s.gate IN ('G23', 'G24')
            AND NOT EXISTS (SELECT 1
                            FROM handoff AS h
                            WHERE h.parcel = s.parcel
                              AND h.at BETWEEN s.at AND s.at + INTERVAL '30' MINUTE)""",
          """
          CREATE MATERIALIZED VIEW circling OPTIONS (keep '1 day') AS
          SELECT parcel, gate, first_at, last_at
          FROM scan_checked MATCH_RECOGNIZE (
            PARTITION BY parcel
            ORDER BY at
            MEASURES pass.gate AS gate, pass.at AS first_at, LAST(back.at) AS last_at
            PATTERN (pass (elsewhere*? back){2}) WITHIN INTERVAL '10' MINUTE
            DEFINE back AS back.gate = pass.gate
                       AND back.at > COALESCE(LAST(back.at, 1), pass.at))""",
          """
          CREATE MATERIALIZED VIEW last_five_minutes AS
          SELECT gate, COUNT(*) AS scans, MAX(grams) AS heaviest_grams
          FROM scan_checked
          WHERE at > CURRENT_TIMESTAMP - INTERVAL '5' MINUTE
          GROUP BY gate""",
          """
          CREATE ENDPOINT busiest_areas (
            service VARCHAR DEFAULT 'next_day' COMMENT 'service level',
            minutes INTEGER DEFAULT 30 COMMENT 'how far to look back' CHECK (minutes BETWEEN 1 AND 1440),
            n INTEGER DEFAULT 3 COMMENT 'how many' CHECK (n BETWEEN 1 AND 100))
          DESCRIPTION 'The delivery areas most parcels were seen for lately'
          OPTIONS (max_rows 100, cache '1 second') AS
          SELECT p.area, COUNT(*) AS parcels, MAX(s.at) AS last_seen
          FROM parcel_now AS s
          JOIN parcel AS p ON p.parcel_id = s.parcel
          WHERE p.service = :service AND s.at > CURRENT_TIMESTAMP - :minutes * INTERVAL '1' MINUTE
          GROUP BY p.area
          ORDER BY parcels DESC, p.area
          LIMIT :n""",
          """
          CREATE ENDPOINT gate_minutes (gate VARCHAR OPTIONAL COMMENT 'one gate, or all if it is not given')
          DESCRIPTION 'The scans of each gate and minute, page by page'
          OPTIONS (page_rows 50) AS
          SELECT gate, window_minute, scans
          FROM gate_load
          WHERE gate = :gate
          ORDER BY gate, window_minute DESC""");

  private static final List<String> SINKS =
      List.of(
          """
          CREATE SINK gate_alert TO hub_log (topic 'hub.alert') FORMAT json
          KEY (gate, window_minute) AS
          SELECT l.gate, l.window_minute, l.scans, g.capacity_per_minute
          FROM gate_load AS l
          JOIN gate AS g ON g.gate = l.gate
          WHERE l.scans > g.capacity_per_minute""",
          """
          CREATE SINK charge TO hub_ops (table 'billing.charge', create 'if missing')
          KEY (parcel) AS
          SELECT parcel, COUNT(*) AS charges, SUM(cents) AS cents
          FROM overweight_charge
          GROUP BY parcel""",
          """
          CREATE SINK missed_van_post TO fernway (path '/missed') OPTIONS (start 'with snapshot') AS
          SELECT parcel, gate, at
          FROM missed_van""");

  private Scenario() {}
}
