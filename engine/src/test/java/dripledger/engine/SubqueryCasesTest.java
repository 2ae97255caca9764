package dripledger.engine;

import org.junit.jupiter.api.Test;

/** Queries inside of queries as people write them, answered as PostgreSQL does. */
class SubqueryCasesTest extends BesidePostgres {
  @Test
  void values() throws Exception {
    QueryCases.run(
        "scalar_queries",
        """
        SELECT (SELECT COUNT(*) FROM parcel) AS n;
        SELECT (SELECT MAX(grams) FROM parcel) AS h, (SELECT MIN(grams) FROM parcel) AS l;
        SELECT (SELECT name FROM nothing WHERE id = 1) AS name;
        SELECT parcel, (SELECT hall FROM gate g WHERE g.gate = p.gate) AS hall FROM parcel p;
        SELECT parcel, (SELECT hall FROM gate g WHERE g.gate = p.gate) || '!' AS hall FROM parcel p;
        SELECT parcel, COALESCE((SELECT hall FROM gate g WHERE g.gate = p.gate), 'none') AS hall FROM parcel p;
        SELECT parcel, (SELECT COUNT(*) FROM handoff h WHERE h.parcel = p.parcel) AS n FROM parcel p;
        SELECT parcel, (SELECT MAX(at) FROM handoff h WHERE h.parcel = p.parcel) AS last FROM parcel p;
        SELECT parcel, (SELECT van FROM handoff h WHERE h.parcel = p.parcel ORDER BY at, id LIMIT 1) AS van FROM parcel p;
        SELECT parcel, (SELECT SUM(q.grams) FROM parcel q WHERE q.parcel < p.parcel) AS before FROM parcel p;
        SELECT parcel, (SELECT COUNT(*) FROM parcel q WHERE q.gate = p.gate AND q.grams > p.grams) AS heavier FROM parcel p;
        SELECT parcel, grams - (SELECT AVG(q.grams) FROM parcel q WHERE q.service = p.service) > 0 AS above FROM parcel p;
        SELECT gate, (SELECT STRING_AGG(service, ',' ORDER BY parcel) FROM parcel p WHERE p.gate = g.gate) AS s FROM gate g;
        SELECT gate, (SELECT p.parcel FROM parcel p WHERE p.gate = g.gate ORDER BY p.grams DESC NULLS LAST, p.parcel LIMIT 1) AS heaviest FROM gate g;
        SELECT gate, CASE WHEN EXISTS (SELECT 1 FROM parcel p WHERE p.gate = g.gate) THEN 'used' ELSE 'free' END AS state FROM gate g;
        SELECT gate, CASE WHEN capacity > 20 THEN (SELECT COUNT(*) FROM parcel p WHERE p.gate = g.gate) END AS n FROM gate g;
        SELECT gate, (SELECT COUNT(*) FROM parcel p WHERE p.gate = g.gate) + (SELECT COUNT(*) FROM gate o WHERE o.hall = g.hall) AS n FROM gate g;
        SELECT hall, COUNT(*) AS n, (SELECT COUNT(*) FROM gate) AS all_gates FROM gate GROUP BY hall;
        SELECT hall, SUM(capacity) AS c, SUM(capacity) > (SELECT AVG(capacity) FROM gate) AS large FROM gate GROUP BY hall;
        SELECT gate FROM gate GROUP BY gate, capacity HAVING capacity >= (SELECT MAX(capacity) FROM gate);
        SELECT parcel FROM parcel WHERE grams = (SELECT MAX(grams) FROM parcel);
        SELECT parcel FROM parcel WHERE grams > (SELECT AVG(grams) FROM parcel);
        SELECT parcel FROM parcel p WHERE grams > (SELECT AVG(grams) FROM parcel q WHERE q.gate = p.gate);
        SELECT parcel FROM parcel p WHERE 0 = (SELECT COUNT(*) FROM handoff h WHERE h.parcel = p.parcel);
        SELECT parcel FROM parcel p WHERE (SELECT capacity FROM gate g WHERE g.gate = p.gate) IS NULL;
        SELECT parcel FROM parcel p WHERE (SELECT capacity FROM gate g WHERE g.gate = p.gate) > 50 OR grams > 2000;
        SELECT parcel FROM parcel WHERE grams BETWEEN (SELECT MIN(cents) FROM surcharge) AND (SELECT MAX(capacity) * 20 FROM gate);
        SELECT (SELECT COUNT(*) FROM parcel) - (SELECT COUNT(DISTINCT gate) FROM parcel) AS d;
        SELECT parcel FROM parcel WHERE due = (SELECT MIN(due) FROM parcel) AND fragile;
        """);
  }

  @Test
  void inOneAnother() throws Exception {
    QueryCases.run(
        "queries_in_one_another",
        """
        SELECT gate, (SELECT p.parcel FROM parcel p WHERE p.gate = g.gate AND p.grams = (SELECT MAX(q.grams) FROM parcel q WHERE q.gate = g.gate) ORDER BY p.parcel LIMIT 1) AS heaviest FROM gate g;
        SELECT gate, (SELECT MIN(p.parcel) FROM parcel p WHERE p.gate = g.gate AND p.grams = (SELECT MAX(q.grams) FROM parcel q WHERE q.gate = p.gate)) AS heaviest FROM gate g;
        SELECT gate, (SELECT COUNT(*) FROM parcel p WHERE p.gate = g.gate AND EXISTS (SELECT 1 FROM handoff h WHERE h.parcel = p.parcel)) AS handed FROM gate g;
        SELECT gate, (SELECT COUNT(*) FROM parcel p WHERE p.gate = g.gate AND p.parcel NOT IN (SELECT h.parcel FROM handoff h WHERE h.parcel IS NOT NULL)) AS there FROM gate g;
        SELECT gate, EXISTS (SELECT 1 FROM parcel p WHERE p.gate = g.gate AND p.grams > (SELECT AVG(q.grams) FROM parcel q)) AS heavy FROM gate g;
        SELECT parcel FROM parcel p WHERE EXISTS (SELECT 1 FROM gate g WHERE g.gate = p.gate AND g.capacity > (SELECT AVG(o.capacity) FROM gate o WHERE o.hall = g.hall));
        SELECT parcel FROM parcel p WHERE grams = (SELECT MAX(q.grams) FROM parcel q WHERE q.gate = p.gate AND q.service IN (SELECT s.service FROM surcharge s WHERE s.cents > 50));
        SELECT parcel FROM parcel WHERE gate IN (SELECT gate FROM gate WHERE hall IN (SELECT hall FROM gate GROUP BY hall HAVING COUNT(*) > 1));
        SELECT parcel FROM parcel WHERE grams > (SELECT AVG(grams) FROM parcel WHERE gate IN (SELECT gate FROM gate WHERE hall = 'North'));
        SELECT hall, (SELECT COUNT(*) FROM parcel p WHERE p.gate IN (SELECT o.gate FROM gate o WHERE o.hall = g.hall)) AS n FROM (SELECT DISTINCT hall FROM gate) g;
        SELECT hall, COUNT(*) AS n FROM gate g WHERE EXISTS (SELECT 1 FROM parcel p WHERE p.gate = g.gate) GROUP BY hall HAVING COUNT(*) >= (SELECT MIN(c) FROM (SELECT COUNT(*) AS c FROM gate GROUP BY hall) x);
        SELECT x.gate, x.n FROM (SELECT gate, (SELECT COUNT(*) FROM parcel p WHERE p.gate = g.gate) AS n FROM gate g) x WHERE x.n > (SELECT COUNT(*) FROM nothing);
        SELECT van, (SELECT g.hall FROM gate g WHERE g.gate = (SELECT p.gate FROM parcel p WHERE p.parcel = h.parcel)) AS hall FROM handoff h;
        SELECT id, CASE WHEN parcel IN (SELECT parcel FROM parcel WHERE grams > (SELECT AVG(grams) FROM parcel)) THEN 'heavy' ELSE 'other' END AS kind FROM handoff;
        SELECT parcel, (SELECT SUM(x.n) FROM (SELECT COUNT(*) AS n FROM handoff h WHERE h.van IS NOT NULL GROUP BY h.van) x) AS total FROM parcel;
        SELECT g.gate FROM gate g LEFT JOIN parcel p ON p.gate = g.gate AND p.parcel = (SELECT MAX(q.parcel) FROM parcel q WHERE q.gate IS NOT NULL) WHERE p.parcel IS NULL;
        WITH h AS (SELECT parcel, COUNT(*) AS n FROM handoff GROUP BY parcel) SELECT p.parcel, (SELECT h.n FROM h WHERE h.parcel = p.parcel) AS n FROM parcel p WHERE p.grams > (SELECT AVG(h.n) FROM h);
        """);
  }

  @Test
  void inFrom() throws Exception {
    QueryCases.run(
        "queries_in_from",
        """
        SELECT x.g, x.n FROM (SELECT gate AS g, COUNT(*) AS n FROM parcel GROUP BY gate) AS x WHERE x.n > 1;
        SELECT x.g FROM (SELECT gate FROM parcel) AS x (g) WHERE x.g IS NOT NULL;
        SELECT * FROM (SELECT parcel, grams FROM parcel WHERE grams > 600) heavy WHERE parcel > 3;
        SELECT a.parcel FROM (SELECT parcel FROM (SELECT parcel, fragile FROM parcel) b WHERE fragile) a;
        SELECT s.a + s.b AS c FROM (SELECT grams AS a, grams * 2 AS b FROM parcel) s;
        SELECT COUNT(*) AS n FROM (SELECT parcel FROM parcel ORDER BY parcel LIMIT 3) x;
        SELECT COUNT(*) AS n FROM (SELECT DISTINCT p.gate FROM parcel p) x;
        SELECT COUNT(*) AS n FROM (SELECT gate, SUM(grams) AS s FROM parcel GROUP BY gate) x;
        SELECT COUNT(*) AS n FROM (SELECT parcel, ROW_NUMBER() OVER (ORDER BY parcel) AS r FROM parcel) x WHERE r < 3;
        SELECT COUNT(*) AS n FROM (SELECT gate FROM gate UNION SELECT gate FROM parcel) x;
        SELECT COUNT(*) AS n FROM (SELECT p.parcel FROM parcel p ORDER BY p.grams LIMIT 2 OFFSET 1) x;
        SELECT x.parcel FROM (SELECT p.parcel, p.grams FROM parcel p ORDER BY p.grams DESC NULLS LAST, p.parcel LIMIT 2) x;
        SELECT x.parcel, x.hall FROM (SELECT p.parcel, g.hall FROM parcel p JOIN gate g ON g.gate = p.gate ORDER BY g.capacity, p.parcel LIMIT 2) x;
        SELECT parcel FROM (SELECT parcel, grams FROM parcel ORDER BY grams DESC NULLS LAST, parcel LIMIT 4) x WHERE grams < 1000;
        SELECT x.parcel, y.parcel AS next FROM (SELECT parcel FROM parcel WHERE fragile) x LEFT JOIN (SELECT parcel FROM parcel WHERE grams > 500) y ON y.parcel = x.parcel + 1;
        SELECT v.a, v.b FROM (VALUES (1, 'x'), (2, NULL), (NULL, 'z')) AS v (a, b);
        SELECT v.a, p.parcel FROM (VALUES (1), (3), (77)) AS v (a) LEFT JOIN parcel p ON p.parcel = v.a;
        VALUES (1, 'a'), (2, 'b');
        SELECT n AS k FROM generate_series(2, 10, 3) AS t (n);
        SELECT t.d FROM generate_series(TIMESTAMP '2026-03-02 06:00:00', TIMESTAMP '2026-03-02 07:00:00', INTERVAL '20 minutes') AS t (d);
        SELECT t.k, COUNT(p.parcel) AS n FROM generate_series(0, 3) AS t (k) LEFT JOIN parcel p ON p.grams / 500 = t.k GROUP BY t.k;
        TABLE gate;
        SELECT * FROM gate WHERE capacity > 10;
        SELECT g.*, p.parcel FROM gate g JOIN parcel p ON p.gate = g.gate;
        SELECT 1 AS one, 'a' AS a, NULL::integer AS n, TRUE AS t;
        SELECT 1 AS one WHERE FALSE;
        SELECT 2 AS two WHERE EXISTS (SELECT 1 FROM nothing);
        """);
  }

  @Test
  void withNames() throws Exception {
    QueryCases.run(
        "with_names",
        """
        WITH heavy AS (SELECT * FROM parcel WHERE grams > 600) SELECT parcel FROM heavy;
        WITH heavy AS (SELECT * FROM parcel WHERE grams > 600) SELECT a.parcel, b.parcel AS other FROM heavy a JOIN heavy b ON a.parcel < b.parcel;
        WITH a AS (SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate), b AS (SELECT MAX(n) AS most FROM a) SELECT a.gate FROM a, b WHERE a.n = b.most;
        WITH a (g, n) AS (SELECT gate, COUNT(*) FROM parcel GROUP BY gate) SELECT g FROM a WHERE n > 1;
        WITH a AS (SELECT parcel FROM parcel), b AS (SELECT parcel FROM a WHERE parcel > 2), c AS (SELECT parcel FROM b WHERE parcel < 6) SELECT * FROM c;
        WITH a AS (SELECT gate FROM gate) SELECT parcel FROM parcel WHERE gate IN (SELECT gate FROM a);
        WITH a AS (SELECT gate FROM gate) SELECT parcel FROM parcel WHERE gate NOT IN (SELECT gate FROM a) OR parcel = (SELECT COUNT(*) FROM a);
        WITH unused AS (SELECT * FROM gate) SELECT parcel FROM parcel WHERE fragile;
        WITH parcel AS (SELECT gate AS x FROM gate) SELECT x FROM parcel;
        SELECT q.n FROM (WITH a AS (SELECT COUNT(*) AS n FROM parcel) SELECT n FROM a) q;
        WITH a AS (VALUES (1, 2), (3, 4)) SELECT * FROM a AS t (x, y) WHERE x < y;
        WITH a AS (SELECT service, SUM(grams) AS s FROM parcel GROUP BY service) SELECT a.service, ROUND(a.s * 100.0 / t.s, 3) AS share FROM a CROSS JOIN (SELECT SUM(s) AS s FROM a) t;
        WITH l AS (SELECT parcel, MAX(at) AS at FROM handoff GROUP BY parcel) SELECT h.parcel, h.van FROM handoff h JOIN l ON l.parcel = h.parcel AND l.at = h.at;
        """);
  }

  @Test
  void whatIsRefused() throws Exception {
    QueryCases.run(
        "queries_refused",
        """
        refused: SELECT (SELECT parcel, gate FROM parcel) AS x;
        refused: SELECT parcel FROM parcel WHERE grams = (SELECT grams, cost FROM parcel);
        refused: SELECT x.parcel FROM (SELECT gate FROM parcel) x;
        refused: SELECT parcel FROM (SELECT parcel FROM parcel) x (a);
        refused: WITH a AS (SELECT 1 AS x) SELECT y FROM a;
        refused: WITH a AS (SELECT * FROM b), b AS (SELECT 1 AS x) SELECT * FROM a;
        refused: SELECT parcel FROM parcel WHERE parcel IN (SELECT * FROM handoff);
        refused: SELECT * FROM (VALUES (1, 2), (3)) AS v;
        refused: SELECT parcel FROM parcel p WHERE EXISTS (SELECT 1 FROM gate WHERE gate.gate = q.gate);
        refused: SELECT (SELECT grams FROM parcel WHERE parcel < 5) AS x;
        """);
  }
}
