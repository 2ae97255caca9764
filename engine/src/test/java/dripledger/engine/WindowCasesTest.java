package dripledger.engine;

import org.junit.jupiter.api.Test;

/** Window functions, first rows and distinct ones as people write them, as PostgreSQL answers. */
class WindowCasesTest extends BesidePostgres {
  @Test
  void functions() throws Exception {
    QueryCases.run(
        "window_functions",
        """
        SELECT parcel, ROW_NUMBER() OVER (ORDER BY grams, parcel) AS n FROM parcel;
        SELECT parcel, ROW_NUMBER() OVER (PARTITION BY gate ORDER BY grams DESC NULLS LAST, parcel) AS n FROM parcel;
        SELECT parcel, RANK() OVER (ORDER BY grams) AS r, DENSE_RANK() OVER (ORDER BY grams) AS d FROM parcel;
        SELECT parcel, RANK() OVER (PARTITION BY service ORDER BY due DESC NULLS FIRST) AS r FROM parcel;
        SELECT parcel, PERCENT_RANK() OVER (ORDER BY grams) AS p, CUME_DIST() OVER (ORDER BY grams) AS c FROM parcel;
        SELECT parcel, NTILE(3) OVER (ORDER BY parcel) AS t FROM parcel;
        SELECT parcel, LAG(grams) OVER (ORDER BY parcel) AS l, LEAD(grams) OVER (ORDER BY parcel) AS m FROM parcel;
        SELECT parcel, LAG(gate, 2, 'none') OVER (ORDER BY parcel) AS l, LEAD(seen, 2) OVER (ORDER BY parcel) AS m FROM parcel;
        SELECT parcel, grams - LAG(grams, 1, 0) OVER (PARTITION BY service ORDER BY parcel) AS d FROM parcel;
        SELECT parcel, seen - LAG(seen) OVER (ORDER BY seen, parcel) > INTERVAL '1 minute' AS late FROM parcel;
        SELECT parcel, FIRST_VALUE(parcel) OVER (PARTITION BY gate ORDER BY grams DESC NULLS LAST, parcel) AS f FROM parcel;
        SELECT parcel, LAST_VALUE(parcel) OVER (PARTITION BY gate ORDER BY grams, parcel ROWS BETWEEN UNBOUNDED PRECEDING AND UNBOUNDED FOLLOWING) AS l FROM parcel;
        SELECT parcel, NTH_VALUE(grams, 2) OVER (PARTITION BY service ORDER BY parcel) AS s FROM parcel;
        SELECT parcel, SUM(grams) OVER () AS t, COUNT(*) OVER () AS n, AVG(grams) OVER () AS a FROM parcel;
        SELECT parcel, SUM(grams) OVER (PARTITION BY gate) AS t, MAX(cost) OVER (PARTITION BY service) AS m FROM parcel;
        SELECT parcel, SUM(grams) OVER (ORDER BY parcel) AS running FROM parcel;
        SELECT parcel, SUM(grams) OVER (ORDER BY due) AS running, COUNT(*) OVER (ORDER BY due) AS n FROM parcel;
        SELECT parcel, COUNT(grams) OVER (PARTITION BY gate ORDER BY parcel ROWS UNBOUNDED PRECEDING) AS n FROM parcel;
        SELECT parcel, SUM(grams) OVER (ORDER BY parcel ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING) AS s FROM parcel;
        SELECT parcel, MIN(grams) OVER (ORDER BY parcel ROWS BETWEEN 2 PRECEDING AND CURRENT ROW) AS s FROM parcel;
        SELECT parcel, MAX(grams) OVER (ORDER BY parcel ROWS BETWEEN CURRENT ROW AND UNBOUNDED FOLLOWING) AS s FROM parcel;
        SELECT parcel, SUM(grams) OVER (ORDER BY grams RANGE BETWEEN 300 PRECEDING AND 300 FOLLOWING) AS s FROM parcel;
        SELECT parcel, COUNT(*) OVER (ORDER BY seen RANGE BETWEEN INTERVAL '2 minutes' PRECEDING AND CURRENT ROW) AS n FROM parcel;
        SELECT parcel, COUNT(*) OVER (ORDER BY grams GROUPS BETWEEN 1 PRECEDING AND 1 FOLLOWING) AS n FROM parcel;
        SELECT parcel, SUM(grams) OVER (ORDER BY parcel ROWS BETWEEN 1 PRECEDING AND 1 FOLLOWING EXCLUDE CURRENT ROW) AS s FROM parcel;
        SELECT parcel, COUNT(*) OVER (ORDER BY grams ROWS UNBOUNDED PRECEDING EXCLUDE TIES) AS n FROM (SELECT DISTINCT ON (grams) parcel, grams FROM parcel ORDER BY grams, parcel) x;
        SELECT parcel, STRING_AGG(gate, ',') OVER (ORDER BY parcel) AS s FROM parcel;
        SELECT parcel, ARRAY_TO_STRING(ARRAY_AGG(parcel) OVER (PARTITION BY service ORDER BY parcel DESC), '-') AS s FROM parcel;
        SELECT parcel, BOOL_OR(fragile) OVER (PARTITION BY gate) AS b, BOOL_AND(fragile) OVER (ORDER BY parcel) AS a FROM parcel;
        SELECT parcel, COUNT(*) FILTER (WHERE fragile) OVER (ORDER BY parcel) AS n FROM parcel;
        SELECT parcel, SUM(grams) OVER w AS s, RANK() OVER w AS r FROM parcel WINDOW w AS (PARTITION BY gate ORDER BY grams);
        SELECT parcel, ROUND(100.0 * grams / SUM(grams) OVER (PARTITION BY service), 3) AS share FROM parcel WHERE grams > 0;
        SELECT parcel, grams > AVG(grams) OVER (PARTITION BY service) AS above FROM parcel;
        SELECT gate, SUM(grams) AS s, RANK() OVER (ORDER BY SUM(grams) DESC NULLS LAST) AS r FROM parcel GROUP BY gate;
        SELECT gate, COUNT(*) AS n, SUM(COUNT(*)) OVER (ORDER BY gate) AS running FROM parcel GROUP BY gate;
        SELECT gate, ROUND(COUNT(*) * 100 / SUM(COUNT(*)) OVER (), 4) AS percent FROM parcel GROUP BY gate;
        SELECT p.parcel, g.hall, ROW_NUMBER() OVER (PARTITION BY g.hall ORDER BY p.grams DESC NULLS LAST, p.parcel) AS n FROM parcel p JOIN gate g ON g.gate = p.gate;
        SELECT parcel, CASE WHEN ROW_NUMBER() OVER (PARTITION BY gate ORDER BY parcel) = 1 THEN gate END AS heading FROM parcel;
        """);
  }

  @Test
  void firstRows() throws Exception {
    QueryCases.run(
        "first_rows",
        """
        SELECT parcel FROM parcel ORDER BY parcel LIMIT 3;
        SELECT parcel FROM parcel ORDER BY parcel DESC LIMIT 3 OFFSET 2;
        SELECT parcel, grams FROM parcel ORDER BY grams DESC NULLS LAST, parcel LIMIT 4;
        SELECT parcel, grams FROM parcel ORDER BY grams NULLS FIRST, parcel DESC FETCH FIRST 2 ROWS ONLY;
        SELECT parcel FROM parcel ORDER BY service, gate DESC NULLS LAST, parcel OFFSET 3 ROWS FETCH NEXT 2 ROWS ONLY;
        SELECT parcel FROM parcel ORDER BY parcel LIMIT 0;
        SELECT parcel FROM parcel ORDER BY parcel OFFSET 6;
        SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate ORDER BY n DESC, gate LIMIT 2;
        SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate ORDER BY COUNT(*) DESC, gate NULLS FIRST LIMIT 2;
        SELECT DISTINCT service FROM parcel ORDER BY service LIMIT 2;
        SELECT grams * 2 AS d FROM parcel ORDER BY d DESC NULLS LAST LIMIT 2;
        SELECT parcel FROM parcel ORDER BY grams % 7, parcel LIMIT 3;
        SELECT parcel FROM parcel ORDER BY CASE WHEN fragile THEN 0 ELSE 1 END, parcel LIMIT 4;
        SELECT parcel FROM parcel ORDER BY 1 DESC LIMIT 2;
        SELECT p.parcel, g.hall FROM parcel p LEFT JOIN gate g ON g.gate = p.gate ORDER BY g.hall NULLS FIRST, p.parcel LIMIT 5;
        SELECT parcel FROM (SELECT parcel, ROW_NUMBER() OVER (PARTITION BY gate ORDER BY grams DESC NULLS LAST, parcel) AS n FROM parcel) x WHERE n = 1;
        SELECT parcel, n FROM (SELECT parcel, RANK() OVER (PARTITION BY service ORDER BY grams) AS n FROM parcel) x WHERE n <= 2;
        SELECT parcel FROM (SELECT parcel, DENSE_RANK() OVER (ORDER BY due DESC NULLS LAST) AS n FROM parcel) x WHERE n = 2;
        SELECT parcel FROM (SELECT parcel, ROW_NUMBER() OVER (ORDER BY parcel) AS n FROM parcel) x WHERE n BETWEEN 2 AND 4;
        SELECT DISTINCT ON (gate) gate, parcel FROM parcel ORDER BY gate, grams DESC NULLS LAST, parcel;
        SELECT DISTINCT ON (service, fragile) service, fragile, parcel FROM parcel ORDER BY service, fragile, parcel DESC;
        SELECT x.service, COUNT(*) AS n FROM (SELECT DISTINCT ON (gate) gate, service FROM parcel ORDER BY gate, parcel) x GROUP BY x.service;
        (SELECT parcel FROM parcel ORDER BY grams DESC NULLS LAST, parcel LIMIT 1) UNION ALL (SELECT parcel FROM parcel ORDER BY grams, parcel LIMIT 1);
        SELECT g.gate, t.parcel FROM gate g JOIN (SELECT gate, parcel FROM parcel ORDER BY parcel DESC LIMIT 5) t ON t.gate = g.gate;
        """);
  }

  @Test
  void setOperations() throws Exception {
    QueryCases.run(
        "set_operations",
        """
        SELECT gate FROM parcel UNION SELECT gate FROM gate;
        SELECT gate FROM parcel UNION ALL SELECT gate FROM gate;
        SELECT gate FROM parcel INTERSECT SELECT gate FROM gate;
        SELECT gate FROM parcel INTERSECT ALL SELECT gate FROM gate;
        SELECT gate FROM parcel EXCEPT SELECT gate FROM gate;
        SELECT gate FROM parcel EXCEPT ALL SELECT gate FROM gate;
        SELECT gate FROM gate EXCEPT SELECT gate FROM parcel;
        SELECT service FROM parcel EXCEPT SELECT service FROM surcharge;
        SELECT service FROM parcel INTERSECT SELECT service FROM surcharge;
        SELECT gate, hall FROM gate UNION SELECT service, area FROM surcharge;
        SELECT gate AS name, 'gate' AS kind FROM gate UNION ALL SELECT van, 'van' FROM handoff;
        SELECT parcel FROM parcel UNION SELECT parcel FROM handoff EXCEPT SELECT 1;
        (SELECT parcel FROM parcel UNION SELECT parcel FROM handoff) INTERSECT SELECT id FROM surcharge;
        SELECT parcel FROM parcel UNION (SELECT parcel FROM handoff INTERSECT SELECT id FROM surcharge);
        SELECT grams FROM parcel UNION SELECT cents FROM surcharge;
        SELECT cost FROM parcel UNION SELECT grams FROM parcel;
        SELECT ratio FROM parcel UNION SELECT grams FROM parcel;
        SELECT NULL::integer AS n UNION ALL SELECT grams FROM parcel;
        SELECT due FROM parcel UNION SELECT since FROM surcharge;
        SELECT fragile FROM parcel INTERSECT SELECT TRUE;
        SELECT x.gate, COUNT(*) AS n FROM (SELECT gate FROM parcel UNION ALL SELECT gate FROM gate) x GROUP BY x.gate;
        SELECT COUNT(*) AS n FROM (SELECT gate FROM parcel EXCEPT SELECT gate FROM gate) x;
        SELECT parcel FROM parcel WHERE gate IN (SELECT gate FROM gate INTERSECT SELECT gate FROM parcel WHERE grams > 600);
        SELECT gate FROM parcel WHERE grams > 600 UNION SELECT gate FROM parcel WHERE fragile;
        SELECT gate FROM parcel UNION SELECT gate FROM parcel;
        SELECT gate FROM parcel EXCEPT ALL SELECT gate FROM parcel WHERE parcel > 2;
        SELECT DISTINCT gate FROM parcel UNION ALL SELECT DISTINCT hall FROM gate;
        SELECT gate FROM parcel UNION SELECT name FROM nothing;
        SELECT id FROM nothing INTERSECT SELECT parcel FROM parcel;
        SELECT id FROM surcharge EXCEPT SELECT id FROM nothing;
        VALUES (1), (2) UNION SELECT 2 EXCEPT VALUES (1);
        SELECT gate FROM gate UNION SELECT gate FROM parcel ORDER BY gate NULLS LAST LIMIT 3;
        refused: SELECT gate FROM parcel UNION SELECT gate, hall FROM gate;
        refused: SELECT gate FROM parcel UNION SELECT grams FROM parcel;
        refused: SELECT grams FROM parcel EXCEPT SELECT due FROM parcel;
        refused: SELECT gate FROM parcel ORDER BY gate UNION SELECT gate FROM gate;
        refused: SELECT ROW_NUMBER() FROM parcel;
        refused: SELECT parcel FROM parcel WHERE ROW_NUMBER() OVER (ORDER BY parcel) = 1;
        refused: SELECT SUM(grams) OVER w FROM parcel;
        refused: SELECT LAG(grams) OVER () FROM gate;
        refused: SELECT NTILE(0) OVER (ORDER BY parcel) FROM parcel;
        refused: SELECT SUM(grams) OVER (ORDER BY parcel ROWS BETWEEN CURRENT ROW AND 1 PRECEDING) FROM parcel;
        refused: SELECT SUM(grams) OVER (ORDER BY gate RANGE BETWEEN 1 PRECEDING AND CURRENT ROW) FROM parcel;
        refused: SELECT COUNT(DISTINCT gate) OVER () FROM parcel GROUP BY hall;
        refused: SELECT parcel FROM parcel LIMIT -1;
        refused: SELECT DISTINCT ON (gate) gate, parcel FROM parcel ORDER BY parcel;
        """);
  }
}
