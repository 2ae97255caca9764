package dripledger.engine;

import org.junit.jupiter.api.Test;

/** Joins as people write them, answered as PostgreSQL does. */
class JoinCasesTest extends BesidePostgres {
  @Test
  void ofTwo() throws Exception {
    QueryCases.run(
        "joins_of_two",
        """
        SELECT p.parcel, g.gate, g.hall FROM parcel p JOIN gate g ON p.gate = g.gate;
        SELECT p.parcel, g.hall FROM parcel p INNER JOIN gate g USING (gate);
        SELECT gate, parcel, hall FROM parcel JOIN gate USING (gate);
        SELECT p.parcel, g.hall FROM parcel p, gate g WHERE p.gate = g.gate;
        SELECT p.parcel, g.hall FROM parcel p, gate g WHERE p.gate = g.gate AND g.capacity > 20;
        SELECT p.parcel, g.gate FROM parcel p LEFT JOIN gate g ON p.gate = g.gate;
        SELECT p.parcel, g.gate FROM parcel p LEFT OUTER JOIN gate g ON p.gate = g.gate AND p.grams > 600;
        SELECT p.parcel, g.gate FROM parcel p LEFT JOIN gate g ON p.gate = g.gate WHERE g.gate IS NULL;
        SELECT p.parcel, g.gate FROM parcel p LEFT JOIN gate g ON p.gate = g.gate WHERE g.capacity > 20;
        SELECT p.parcel, g.gate FROM parcel p RIGHT JOIN gate g ON p.gate = g.gate;
        SELECT p.parcel, g.gate FROM parcel p RIGHT JOIN gate g ON p.gate = g.gate AND p.fragile;
        SELECT p.parcel, g.gate FROM parcel p FULL JOIN gate g ON p.gate = g.gate;
        SELECT gate, p.parcel, g.hall FROM parcel p FULL JOIN gate g USING (gate);
        SELECT p.parcel, g.gate FROM parcel p FULL OUTER JOIN gate g ON p.gate = g.gate WHERE p.parcel IS NULL OR g.gate IS NULL;
        SELECT p.parcel, g.gate FROM parcel p CROSS JOIN gate g WHERE p.parcel < 3;
        SELECT p.parcel, g.gate FROM parcel p JOIN gate g ON TRUE WHERE p.parcel < 3;
        SELECT p.parcel, g.gate FROM parcel p LEFT JOIN gate g ON FALSE;
        SELECT p.parcel, g.gate FROM parcel p JOIN gate g ON p.grams > g.capacity * 10;
        SELECT p.parcel, g.gate FROM parcel p LEFT JOIN gate g ON p.grams < g.capacity;
        SELECT p.parcel, s.id FROM parcel p JOIN surcharge s ON p.service IS NOT DISTINCT FROM s.service;
        SELECT p.parcel, s.id FROM parcel p LEFT JOIN surcharge s ON p.service IS NOT DISTINCT FROM s.service AND s.cents > 10;
        SELECT p.parcel, s.id FROM parcel p JOIN surcharge s ON p.service = s.service AND p.due >= s.since;
        SELECT p.parcel, s.id FROM parcel p JOIN surcharge s ON p.grams = s.cents * 10;
        SELECT p.parcel, s.id FROM parcel p JOIN surcharge s ON p.grams + 0 = s.cents + 400;
        SELECT p.parcel, s.id FROM parcel p JOIN surcharge s ON p.cost = s.cents / 20;
        SELECT p.parcel, s.id FROM parcel p JOIN surcharge s ON p.ratio = s.cents;
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON p.gate = g.gate OR p.grams = g.capacity;
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON p.gate = g.gate AND (g.hall = 'North' OR p.fragile);
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON p.gate = g.gate AND g.hall IN ('North', 'West');
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON p.gate = g.gate AND g.hall LIKE 'S%';
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON UPPER(p.gate) = UPPER(g.gate);
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON SUBSTRING(p.gate, 3) = SUBSTRING(g.gate, 3);
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON CASE WHEN p.fragile THEN p.gate END = g.gate;
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON COALESCE(p.gate, 'G06') = g.gate;
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON NOT (p.gate <> g.gate);
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON (p.gate, p.grams) = (g.gate, 700);
        SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON p.gate = g.gate AND p.gate = 'G01';
        SELECT p.parcel, s.id FROM parcel p JOIN surcharge s ON p.due BETWEEN s.since AND s.since + 30;
        SELECT * FROM gate NATURAL JOIN parcel;
        SELECT gate, parcel FROM gate NATURAL LEFT JOIN parcel;
        SELECT service, p.parcel, s.id FROM parcel p NATURAL JOIN surcharge s;
        SELECT n.id, g.gate FROM nothing n JOIN gate g ON TRUE;
        SELECT n.id, g.gate FROM gate g LEFT JOIN nothing n ON n.name = g.hall;
        SELECT n.id, n.name, g.gate FROM nothing n FULL JOIN gate g ON n.id = g.capacity;
        """);
  }

  @Test
  void withThemselves() throws Exception {
    QueryCases.run(
        "joins_with_themselves",
        """
        SELECT a.parcel, b.parcel AS other FROM parcel a JOIN parcel b ON a.gate = b.gate AND a.parcel < b.parcel;
        SELECT a.parcel, b.parcel AS other FROM parcel a LEFT JOIN parcel b ON a.grams = b.grams AND a.parcel <> b.parcel;
        SELECT a.parcel, b.parcel AS other FROM parcel a JOIN parcel b ON a.parcel = b.parcel;
        SELECT a.parcel, b.parcel AS other FROM parcel a JOIN parcel b ON a.parcel = b.parcel + 1;
        SELECT a.parcel, b.parcel AS other FROM parcel a FULL JOIN parcel b ON a.parcel = b.parcel + 1;
        SELECT a.parcel, b.parcel AS other FROM parcel a JOIN parcel b ON a.seen = b.seen AND a.parcel < b.parcel;
        SELECT a.gate, b.gate AS other FROM gate a JOIN gate b ON a.hall = b.hall AND a.gate < b.gate;
        SELECT a.gate, b.gate AS other, c.gate AS third FROM gate a JOIN gate b ON a.hall = b.hall JOIN gate c ON b.hall = c.hall;
        SELECT a.id, b.id AS other FROM surcharge a JOIN surcharge b ON a.since < b.since AND a.area = b.area;
        SELECT a.id, b.id AS other FROM surcharge a, surcharge b WHERE a.service = b.service AND a.cents > b.cents;
        SELECT a.parcel, COUNT(b.parcel) AS heavier FROM parcel a LEFT JOIN parcel b ON b.grams > a.grams GROUP BY a.parcel;
        SELECT a.parcel FROM parcel a JOIN parcel b ON a.gate = b.gate GROUP BY a.parcel HAVING COUNT(*) > 1;
        SELECT x.parcel, y.parcel AS other FROM (SELECT * FROM parcel WHERE fragile) x JOIN (SELECT * FROM parcel WHERE NOT fragile) y ON x.gate = y.gate;
        """);
  }

  @Test
  void ofMany() throws Exception {
    QueryCases.run(
        "joins_of_many",
        """
        SELECT p.parcel, g.hall, s.cents FROM parcel p JOIN gate g ON g.gate = p.gate JOIN surcharge s ON s.service = p.service;
        SELECT p.parcel, g.hall, s.cents FROM parcel p LEFT JOIN gate g ON g.gate = p.gate LEFT JOIN surcharge s ON s.service = p.service;
        SELECT p.parcel, g.hall, s.cents FROM parcel p JOIN gate g ON g.gate = p.gate LEFT JOIN surcharge s ON s.service = p.service AND UPPER(g.hall) = s.area;
        SELECT p.parcel, g.hall, h.van FROM parcel p LEFT JOIN gate g USING (gate) LEFT JOIN handoff h USING (parcel);
        SELECT p.parcel, g.hall, h.van FROM handoff h LEFT JOIN parcel p ON p.parcel = h.parcel LEFT JOIN gate g ON g.gate = p.gate;
        SELECT p.parcel, g.hall, h.van FROM handoff h RIGHT JOIN parcel p ON p.parcel = h.parcel LEFT JOIN gate g ON g.gate = p.gate;
        SELECT p.parcel, g.gate, h.id FROM (parcel p FULL JOIN gate g ON g.gate = p.gate) FULL JOIN handoff h ON h.parcel = p.parcel;
        SELECT p.parcel, x.gate, x.id FROM parcel p LEFT JOIN (SELECT g.gate, s.id FROM gate g JOIN surcharge s ON UPPER(g.hall) = s.area) x ON x.gate = p.gate;
        SELECT p.parcel, g.gate, s.id FROM parcel p LEFT JOIN (gate g JOIN surcharge s ON UPPER(g.hall) = s.area) ON g.gate = p.gate;
        SELECT p.parcel, g.gate, s.id FROM (parcel p JOIN surcharge s ON s.service = p.service) LEFT JOIN gate g ON g.gate = p.gate AND g.capacity > s.cents;
        SELECT p.parcel, h.van, g.hall, s.cents FROM parcel p, handoff h, gate g, surcharge s WHERE h.parcel = p.parcel AND g.gate = p.gate AND s.service = p.service;
        SELECT p.parcel, h.van FROM parcel p JOIN handoff h ON h.parcel = p.parcel JOIN handoff o ON o.van = h.van AND o.id <> h.id;
        SELECT g.hall, COUNT(*) AS n, SUM(p.grams) AS grams FROM parcel p JOIN gate g ON g.gate = p.gate GROUP BY g.hall;
        SELECT g.hall, COUNT(p.parcel) AS n, SUM(p.cost) AS cost FROM gate g LEFT JOIN parcel p ON p.gate = g.gate GROUP BY g.hall;
        SELECT g.hall, s.area, COUNT(*) AS n FROM gate g JOIN parcel p ON p.gate = g.gate JOIN surcharge s ON s.service = p.service GROUP BY g.hall, s.area HAVING COUNT(*) > 1;
        SELECT DISTINCT g.hall, p.service FROM gate g JOIN parcel p ON p.gate = g.gate;
        SELECT v.van, MAX(p.grams) AS heaviest FROM handoff v LEFT JOIN parcel p ON p.parcel = v.parcel GROUP BY v.van;
        SELECT a.hall, a.n, b.n AS gates FROM (SELECT g.hall, COUNT(*) AS n FROM parcel p JOIN gate g USING (gate) GROUP BY g.hall) a JOIN (SELECT hall, COUNT(*) AS n FROM gate GROUP BY hall) b ON a.hall = b.hall;
        SELECT p.parcel, t.total FROM parcel p CROSS JOIN (SELECT SUM(grams) AS total FROM parcel) t;
        SELECT p.parcel, ROUND(p.grams * 100.0 / t.total, 4) AS share FROM parcel p JOIN (SELECT gate, SUM(grams) AS total FROM parcel GROUP BY gate HAVING SUM(grams) > 0) t ON t.gate = p.gate;
        SELECT g.gate, x.n FROM gate g LEFT JOIN LATERAL (SELECT COUNT(*) AS n FROM parcel p WHERE p.gate = g.gate) x ON TRUE;
        SELECT g.gate, x.parcel FROM gate g, LATERAL (SELECT parcel FROM parcel p WHERE p.gate = g.gate ORDER BY p.grams DESC NULLS LAST, p.parcel LIMIT 1) x;
        SELECT g.gate, x.parcel FROM gate g LEFT JOIN LATERAL (SELECT parcel FROM parcel p WHERE p.gate = g.gate ORDER BY p.grams DESC NULLS LAST, p.parcel LIMIT 2) x ON TRUE;
        SELECT p.parcel, x.van, g.hall FROM (parcel p CROSS JOIN LATERAL (SELECT van FROM handoff h WHERE h.parcel = p.parcel) x) JOIN gate g ON g.gate = p.gate;
        SELECT g.gate, x.part FROM gate g CROSS JOIN LATERAL UNNEST(ARRAY[g.hall, g.gate]) AS x (part);
        SELECT v.k, g.gate FROM (VALUES (1, 'North'), (2, 'East')) AS v (k, hall) LEFT JOIN gate g ON g.hall = v.hall;
        SELECT n.k, p.parcel FROM generate_series(1, 5) AS n (k) LEFT JOIN parcel p ON p.parcel = n.k * 2;
        """);
  }

  @Test
  void halfJoins() throws Exception {
    QueryCases.run(
        "half_joins",
        """
        SELECT parcel FROM parcel WHERE gate IN (SELECT gate FROM gate);
        SELECT parcel FROM parcel WHERE gate IN (SELECT gate FROM gate WHERE hall = 'North');
        SELECT parcel FROM parcel WHERE gate NOT IN (SELECT gate FROM gate);
        SELECT parcel FROM parcel WHERE service NOT IN (SELECT service FROM surcharge WHERE service IS NOT NULL);
        SELECT parcel FROM parcel WHERE service NOT IN (SELECT service FROM surcharge);
        SELECT parcel FROM parcel WHERE service NOT IN (SELECT name FROM nothing);
        SELECT parcel FROM parcel p WHERE EXISTS (SELECT 1 FROM handoff h WHERE h.parcel = p.parcel);
        SELECT parcel FROM parcel p WHERE NOT EXISTS (SELECT 1 FROM handoff h WHERE h.parcel = p.parcel);
        SELECT parcel FROM parcel p WHERE NOT EXISTS (SELECT 1 FROM handoff h WHERE h.parcel = p.parcel AND h.van = 'V1');
        SELECT parcel FROM parcel p WHERE EXISTS (SELECT 1 FROM gate g WHERE g.gate = p.gate AND g.capacity > p.parcel * 10);
        SELECT parcel FROM parcel p WHERE EXISTS (SELECT 1 FROM nothing);
        SELECT parcel FROM parcel p WHERE NOT EXISTS (SELECT 1 FROM nothing);
        SELECT parcel FROM parcel p WHERE EXISTS (SELECT 1 FROM gate g WHERE g.gate = p.gate) OR fragile;
        SELECT parcel FROM parcel p WHERE EXISTS (SELECT 1 FROM gate g WHERE g.gate = p.gate) AND NOT EXISTS (SELECT 1 FROM handoff h WHERE h.parcel = p.parcel);
        SELECT parcel, EXISTS (SELECT 1 FROM handoff h WHERE h.parcel = p.parcel) AS handed FROM parcel p;
        SELECT parcel, gate IN (SELECT gate FROM gate WHERE hall = 'South') AS south FROM parcel;
        SELECT parcel, service NOT IN (SELECT service FROM surcharge) AS free FROM parcel;
        SELECT parcel FROM parcel WHERE (gate, service) IN (SELECT g.gate, s.service FROM gate g, surcharge s);
        SELECT parcel FROM parcel WHERE grams = ANY (SELECT cents FROM surcharge);
        SELECT parcel FROM parcel WHERE grams > ALL (SELECT capacity FROM gate WHERE capacity IS NOT NULL);
        SELECT parcel FROM parcel WHERE grams > ALL (SELECT capacity FROM gate);
        SELECT parcel FROM parcel WHERE grams < SOME (SELECT cents FROM surcharge WHERE cents > 100);
        SELECT parcel FROM parcel WHERE grams <> ALL (SELECT id FROM nothing);
        SELECT gate FROM gate g WHERE 2 <= (SELECT COUNT(*) FROM parcel p WHERE p.gate = g.gate);
        SELECT gate FROM gate WHERE gate IN (SELECT gate FROM parcel GROUP BY gate HAVING SUM(grams) > 500);
        SELECT gate FROM gate WHERE gate IN (SELECT gate FROM parcel ORDER BY grams DESC NULLS LAST, parcel LIMIT 3);
        SELECT gate FROM gate g WHERE EXISTS (SELECT 1 FROM parcel p JOIN handoff h ON h.parcel = p.parcel WHERE p.gate = g.gate);
        SELECT gate FROM gate g WHERE EXISTS (SELECT 1 FROM parcel p WHERE p.gate = g.gate AND EXISTS (SELECT 1 FROM handoff h WHERE h.parcel = p.parcel));
        SELECT gate FROM gate g WHERE NOT EXISTS (SELECT 1 FROM parcel p WHERE p.gate = g.gate AND NOT EXISTS (SELECT 1 FROM handoff h WHERE h.parcel = p.parcel));
        """);
  }

  @Test
  void whatIsRefused() throws Exception {
    QueryCases.run(
        "joins_refused",
        """
        refused: SELECT gate FROM parcel p JOIN gate g ON p.gate = g.gate;
        refused: SELECT p.parcel FROM parcel p JOIN gate g ON p.gatee = g.gate;
        refused: SELECT p.parcel FROM parcel p JOIN gate g ON p.grams = g.gate;
        refused: SELECT p.parcel FROM parcel p JOIN gate p ON TRUE;
        refused: SELECT p.parcel FROM parcel p JOIN gate g USING (hall);
        refused: SELECT x.parcel FROM parcel p JOIN gate g USING (gate);
        refused: SELECT parcel FROM parcel WHERE gate IN (SELECT gate, hall FROM gate);
        refused: SELECT parcel FROM parcel JOIN gates ON TRUE;
        refused: SELECT p.parcel FROM parcel p JOIN gate g ON p.grams;
        """);
  }
}
