package dripledger.engine;

import org.junit.jupiter.api.Test;

/** Grouping and aggregates as people write them, answered as PostgreSQL does. */
class AggregateCasesTest extends BesidePostgres {
  @Test
  void groups() throws Exception {
    QueryCases.run(
        "groups",
        """
        SELECT COUNT(*) AS n FROM parcel;
        SELECT COUNT(*) AS n FROM nothing;
        SELECT COUNT(gate) AS n, COUNT(DISTINCT gate) AS d, COUNT(*) AS a FROM parcel;
        SELECT SUM(grams) AS s, AVG(grams) AS a, MIN(grams) AS l, MAX(grams) AS h FROM parcel;
        SELECT SUM(id) AS s, AVG(id) AS a, MIN(name) AS l, MAX(name) AS h, COUNT(name) AS n FROM nothing;
        SELECT SUM(cost) AS s, MIN(cost) AS l, MAX(cost) AS h FROM parcel;
        SELECT SUM(ratio) AS s, AVG(ratio) AS a, MIN(ratio) AS l FROM parcel;
        SELECT MIN(seen) AS f, MAX(seen) AS l, MIN(due) AS d, MAX(due) AS e FROM parcel;
        SELECT MIN(gate) AS f, MAX(service) AS l FROM parcel;
        SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate;
        SELECT gate, service, COUNT(*) AS n FROM parcel GROUP BY gate, service;
        SELECT service FROM parcel GROUP BY service;
        SELECT COUNT(*) AS n FROM parcel GROUP BY service;
        SELECT fragile, COUNT(*) AS n, SUM(grams) AS s FROM parcel GROUP BY fragile;
        SELECT due, COUNT(*) AS n FROM parcel GROUP BY due;
        SELECT seen, MAX(parcel) AS p FROM parcel GROUP BY seen;
        SELECT ratio, COUNT(*) AS n FROM parcel GROUP BY ratio;
        SELECT cost, COUNT(*) AS n FROM parcel GROUP BY cost;
        SELECT grams / 500 AS g, COUNT(*) AS n FROM parcel GROUP BY grams / 500;
        SELECT grams / 500 AS g, COUNT(*) AS n FROM parcel GROUP BY g;
        SELECT grams / 500 AS g, COUNT(*) AS n FROM parcel GROUP BY 1;
        SELECT UPPER(service) AS s, COUNT(*) AS n FROM parcel GROUP BY UPPER(service);
        SELECT date_trunc('hour', seen) AS h, COUNT(*) AS n FROM parcel GROUP BY date_trunc('hour', seen);
        SELECT EXTRACT(MONTH FROM due) AS m, COUNT(*) AS n FROM parcel GROUP BY EXTRACT(MONTH FROM due);
        SELECT CASE WHEN grams > 600 THEN 'heavy' WHEN grams > 0 THEN 'light' END AS c, COUNT(*) AS n FROM parcel GROUP BY 1;
        SELECT grams IS NULL AS unknown, COUNT(*) AS n FROM parcel GROUP BY grams IS NULL;
        SELECT gate, SUM(grams) + COUNT(*) AS x, SUM(grams) / COUNT(*) AS y FROM parcel GROUP BY gate;
        SELECT gate, SUM(grams * 2 + 1) AS x, SUM(-grams) AS y, MAX(grams) - MIN(grams) AS z FROM parcel GROUP BY gate;
        SELECT gate || '!' AS g, COUNT(*) AS n FROM parcel GROUP BY gate;
        SELECT gate, COUNT(*) AS n FROM parcel WHERE grams > 400 GROUP BY gate;
        SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate HAVING COUNT(*) > 1;
        SELECT gate FROM parcel GROUP BY gate HAVING MAX(grams) > 600 AND MIN(service) = 'economy';
        SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate HAVING gate IS NOT NULL;
        SELECT COUNT(*) AS n FROM parcel HAVING COUNT(*) > 7;
        SELECT COUNT(*) AS n FROM nothing HAVING COUNT(*) > 0;
        SELECT 1 AS one FROM parcel HAVING SUM(grams) > 100;
        SELECT COUNT(*) AS n, 'x' AS x FROM parcel;
        SELECT COUNT(*) AS n, 'x' AS x FROM nothing GROUP BY id;
        SELECT DISTINCT service FROM parcel;
        SELECT DISTINCT gate, service FROM parcel;
        SELECT DISTINCT grams > 600 AS heavy FROM parcel;
        SELECT DISTINCT COUNT(*) AS n FROM parcel GROUP BY gate;
        SELECT COUNT(*) AS n FROM (SELECT DISTINCT gate, service FROM parcel) x;
        SELECT n, COUNT(*) AS c FROM (SELECT gate, COUNT(*) AS n FROM parcel GROUP BY gate) x GROUP BY n;
        SELECT MAX(n) AS most FROM (SELECT COUNT(*) AS n FROM parcel GROUP BY gate) x;
        SELECT SUM(n) AS n FROM (SELECT service, COUNT(DISTINCT gate) AS n FROM parcel GROUP BY service) x;
        """);
  }

  @Test
  void functions() throws Exception {
    QueryCases.run(
        "aggregate_functions",
        """
        SELECT gate, COUNT(*) FILTER (WHERE grams > 600) AS heavy, SUM(grams) FILTER (WHERE fragile) AS f FROM parcel GROUP BY gate;
        SELECT COUNT(*) FILTER (WHERE FALSE) AS none, MAX(grams) FILTER (WHERE service = 'economy') AS e FROM parcel;
        SELECT service, COUNT(DISTINCT gate) AS g, SUM(DISTINCT grams) AS s, AVG(DISTINCT grams) AS a FROM parcel GROUP BY service;
        SELECT service, COUNT(DISTINCT gate) FILTER (WHERE grams > 100) AS g FROM parcel GROUP BY service;
        SELECT COUNT(DISTINCT fragile) AS f, COUNT(DISTINCT due) AS d, COUNT(DISTINCT seen) AS s FROM parcel;
        SELECT MIN(DISTINCT grams) AS l, MAX(DISTINCT service) AS h FROM parcel;
        SELECT service, BOOL_AND(fragile) AS a, BOOL_OR(fragile) AS o, EVERY(grams > 0) AS e FROM parcel GROUP BY service;
        SELECT service, BIT_AND(grams) AS a, BIT_OR(grams) AS o FROM parcel GROUP BY service;
        SELECT ROUND(STDDEV(grams)::numeric, 6) AS s, ROUND(VARIANCE(grams)::numeric, 6) AS v FROM parcel;
        SELECT service, ROUND(STDDEV_POP(grams)::numeric, 6) AS p, ROUND(STDDEV_SAMP(grams)::numeric, 6) AS s FROM parcel GROUP BY service;
        SELECT ROUND(VAR_POP(ratio)::numeric, 3) AS p, ROUND(COVAR_POP(ratio, grams)::numeric, 2) AS c FROM parcel WHERE ratio < 100;
        SELECT ROUND(CORR(ratio, grams)::numeric, 6) AS c, REGR_COUNT(ratio, grams) AS n FROM parcel WHERE ratio < 100;
        SELECT ROUND(REGR_SLOPE(ratio, grams)::numeric, 9) AS s, ROUND(REGR_INTERCEPT(ratio, grams)::numeric, 6) AS i FROM parcel WHERE ratio < 100;
        SELECT service, STRING_AGG(gate, ',' ORDER BY gate) AS gates FROM parcel GROUP BY service;
        SELECT service, STRING_AGG(DISTINCT gate, ',' ORDER BY gate) AS gates FROM parcel GROUP BY service;
        SELECT service, STRING_AGG(gate, '; ' ORDER BY parcel DESC) AS gates FROM parcel GROUP BY service;
        SELECT STRING_AGG(gate || ':' || COALESCE(grams::text, '?'), ' ' ORDER BY parcel) AS t FROM parcel;
        SELECT STRING_AGG(name, ',') AS t FROM nothing;
        SELECT service, ARRAY_TO_STRING(ARRAY_AGG(parcel ORDER BY parcel DESC), ',') AS p FROM parcel GROUP BY service;
        SELECT service, ARRAY_TO_STRING(ARRAY_AGG(grams ORDER BY grams, parcel), ',', 'none') AS p FROM parcel GROUP BY service;
        SELECT service, CARDINALITY(ARRAY_AGG(DISTINCT gate)) AS n FROM parcel GROUP BY service;
        SELECT PERCENTILE_CONT(0.5) WITHIN GROUP (ORDER BY grams) AS m FROM parcel;
        SELECT service, PERCENTILE_CONT(0.25) WITHIN GROUP (ORDER BY grams) AS q FROM parcel GROUP BY service;
        SELECT service, PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY grams) AS m, PERCENTILE_DISC(1) WITHIN GROUP (ORDER BY grams DESC) AS l FROM parcel GROUP BY service;
        SELECT MODE() WITHIN GROUP (ORDER BY service) AS m FROM parcel WHERE service IN ('next_day', 'economy') AND grams > 0;
        SELECT PERCENTILE_DISC(0.5) WITHIN GROUP (ORDER BY grams DESC) AS m FROM parcel;
        SELECT gate, SUM(CASE WHEN fragile THEN 1 ELSE 0 END) AS f, SUM(CASE WHEN fragile THEN grams END) AS g FROM parcel GROUP BY gate;
        SELECT gate, MAX(CASE WHEN service = 'economy' THEN cost END) AS e, MAX(CASE WHEN service = 'next_day' THEN cost END) AS n FROM parcel GROUP BY gate;
        SELECT gate, COALESCE(SUM(grams), 0) AS s, NULLIF(COUNT(*), 1) AS n FROM parcel GROUP BY gate;
        SELECT service, ROUND(AVG(grams), 2) AS a, ROUND(AVG(cost), 2) AS c FROM parcel GROUP BY service;
        SELECT service, SUM(cost * grams) AS c, SUM(cost) * 2 AS d FROM parcel GROUP BY service;
        SELECT SUM(grams::bigint * 1000000000) AS s, SUM(cents) AS c FROM parcel CROSS JOIN surcharge;
        SELECT MAX(seen) - MIN(seen) > INTERVAL '1 hour' AS long FROM parcel;
        SELECT MAX(due) - MIN(due) AS days FROM parcel;
        once: SELECT COUNT(*), SUM(grams), MIN(cost) AS low, MAX(seen) FROM parcel;
        once: SELECT gate, COUNT(*), COUNT(*) + 1 FROM parcel GROUP BY gate;
        """);
  }

  @Test
  void groupingSets() throws Exception {
    QueryCases.run(
        "grouping_sets",
        """
        SELECT gate, service, COUNT(*) AS n FROM parcel GROUP BY GROUPING SETS ((gate), (service));
        SELECT gate, service, COUNT(*) AS n FROM parcel GROUP BY GROUPING SETS ((gate, service), (gate), ());
        SELECT gate, service, SUM(grams) AS s FROM parcel GROUP BY ROLLUP (gate, service);
        SELECT gate, service, SUM(grams) AS s FROM parcel GROUP BY CUBE (gate, service);
        SELECT gate, service, GROUPING(gate) AS a, GROUPING(service) AS b, COUNT(*) AS n FROM parcel GROUP BY ROLLUP (gate, service);
        SELECT gate, service, GROUPING(gate, service) AS g, MAX(cost) AS m FROM parcel GROUP BY CUBE (gate, service);
        SELECT fragile, gate, COUNT(*) AS n FROM parcel GROUP BY fragile, ROLLUP (gate);
        SELECT service, COUNT(*) AS n FROM parcel GROUP BY GROUPING SETS ((service), ());
        SELECT COUNT(*) AS n FROM parcel GROUP BY GROUPING SETS ((), ());
        SELECT id, COUNT(*) AS n FROM nothing GROUP BY ROLLUP (id);
        SELECT g.hall, p.service, COUNT(*) AS n FROM parcel p JOIN gate g ON g.gate = p.gate GROUP BY ROLLUP (g.hall, p.service) HAVING COUNT(*) > 1;
        SELECT COALESCE(gate, CASE WHEN GROUPING(gate) = 1 THEN 'all' ELSE 'none' END) AS g, COUNT(*) AS n FROM parcel GROUP BY ROLLUP (gate);
        SELECT gate, COUNT(DISTINCT service) AS s, SUM(DISTINCT grams) AS g FROM parcel GROUP BY ROLLUP (gate);
        SELECT gate, service, STRING_AGG(parcel::text, ',' ORDER BY parcel) AS p FROM parcel GROUP BY GROUPING SETS ((gate), (service), ());
        SELECT date_trunc('day', seen) AS d, fragile, COUNT(*) AS n FROM parcel GROUP BY CUBE (date_trunc('day', seen), fragile);
        """);
  }

  @Test
  void whatIsRefused() throws Exception {
    QueryCases.run(
        "groups_refused",
        """
        refused: SELECT gate, service FROM parcel GROUP BY gate;
        refused: SELECT gate, COUNT(*) FROM parcel;
        refused: SELECT COUNT(*) FROM parcel WHERE COUNT(*) > 1;
        refused: SELECT SUM(COUNT(*)) FROM parcel GROUP BY gate;
        refused: SELECT SUM(gate) FROM parcel;
        refused: SELECT AVG(service) FROM parcel;
        refused: SELECT SUM(grams, cost) FROM parcel;
        refused: SELECT MAX() FROM parcel;
        refused: SELECT gate FROM parcel GROUP BY 2;
        refused: SELECT gate FROM parcel GROUP BY hall;
        refused: SELECT gate FROM parcel HAVING grams > 1;
        refused: SELECT BOOL_AND(grams) FROM parcel;
        refused: SELECT GROUPING(grams) FROM parcel GROUP BY gate;
        refused: SELECT PERCENTILE_CONT(2) WITHIN GROUP (ORDER BY grams) FROM parcel;
        refused: SELECT parcel FROM parcel ORDER BY COUNT(*);
        """);
  }
}
