package dripledger.engine;

import org.junit.jupiter.api.Test;

/** Expressions over a hub's rows as people write them, answered as PostgreSQL does. */
class ExpressionCasesTest extends BesidePostgres {
  @Test
  void conditions() throws Exception {
    QueryCases.run(
        "conditions",
        """
        SELECT parcel FROM parcel WHERE fragile;
        SELECT parcel FROM parcel WHERE NOT fragile;
        SELECT parcel FROM parcel WHERE fragile IS NOT TRUE;
        SELECT parcel FROM parcel WHERE fragile IS UNKNOWN OR grams IS NULL;
        SELECT parcel FROM parcel WHERE fragile = (grams > 600);
        SELECT parcel FROM parcel WHERE grams > 600 AND (fragile OR service = 'economy');
        SELECT parcel FROM parcel WHERE NOT (grams > 600 AND fragile);
        SELECT parcel FROM parcel WHERE grams <> 700;
        SELECT parcel FROM parcel WHERE grams IS DISTINCT FROM 700;
        SELECT parcel FROM parcel WHERE grams BETWEEN 500 AND 700;
        SELECT parcel FROM parcel WHERE grams NOT BETWEEN 500 AND 700;
        SELECT parcel FROM parcel WHERE grams BETWEEN SYMMETRIC 700 AND 500;
        SELECT parcel FROM parcel WHERE grams IN (500, 700, NULL);
        SELECT parcel FROM parcel WHERE grams NOT IN (500, 700);
        SELECT parcel FROM parcel WHERE grams NOT IN (500, NULL);
        SELECT parcel FROM parcel WHERE service LIKE 'n%';
        SELECT parcel FROM parcel WHERE service NOT LIKE '%day';
        SELECT parcel FROM parcel WHERE service LIKE '%\\_%' AND service ILIKE 'NEXT%';
        SELECT parcel FROM parcel WHERE service ~ '^(next|same)_' AND gate !~ '[13]$';
        SELECT parcel FROM parcel WHERE service SIMILAR TO '(economy|same%)';
        SELECT parcel FROM parcel WHERE gate = ANY (ARRAY['G01', 'G03']);
        SELECT parcel FROM parcel WHERE grams > ALL (ARRAY[100, 600]);
        SELECT parcel FROM parcel WHERE (gate, service) IN (('G01', 'economy'), ('G02', 'next_day'));
        SELECT parcel FROM parcel WHERE (grams, parcel) > (700, 4);
        SELECT parcel FROM parcel WHERE seen >= TIMESTAMP '2026-03-02 06:01:00' AND seen < TIMESTAMP '2026-03-02 06:04:00';
        SELECT parcel FROM parcel WHERE due = DATE '2026-03-03' OR due < '2026-03-03';
        SELECT parcel FROM parcel WHERE seen > due;
        SELECT parcel FROM parcel WHERE due - DATE '2026-03-01' > 2;
        SELECT parcel FROM parcel WHERE seen + INTERVAL '1 hour' > TIMESTAMP '2026-03-02 07:01:00';
        SELECT parcel FROM parcel WHERE EXTRACT(HOUR FROM seen) = 6 AND EXTRACT(DOW FROM due) = 2;
        SELECT parcel FROM parcel WHERE COALESCE(grams, 0) = 0;
        SELECT parcel FROM parcel WHERE NULLIF(grams, 0) IS NULL;
        SELECT parcel FROM parcel WHERE CASE WHEN fragile THEN grams > 600 ELSE cost > 5 END;
        SELECT parcel FROM parcel WHERE CASE service WHEN 'economy' THEN 1 WHEN 'next_day' THEN 2 END = 2;
        SELECT parcel FROM parcel WHERE 1 = 0;
        SELECT parcel FROM parcel WHERE NULL;
        SELECT parcel FROM parcel WHERE grams = NULL;
        SELECT parcel FROM parcel WHERE TRUE AND parcel > 5;
        SELECT parcel FROM parcel WHERE LENGTH(service) > 8;
        SELECT parcel FROM parcel WHERE grams % 3 = 2 OR -grams < -1000;
        """);
  }

  @Test
  void numbersAsText() throws Exception {
    QueryCases.run(
        "numbers_as_text",
        """
        SELECT parcel, TO_CHAR(grams, '999') AS a, TO_CHAR(-cost, '999') AS b, TO_CHAR(cost, '999') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '9999') AS a, TO_CHAR(-cost, '9999') AS b, TO_CHAR(cost, '9999') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '0000') AS a, TO_CHAR(-cost, '0000') AS b, TO_CHAR(cost, '0000') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '9,999') AS a, TO_CHAR(-cost, '9,999') AS b, TO_CHAR(cost, '9,999') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'FM9,999') AS a, TO_CHAR(-cost, 'FM9,999') AS b, TO_CHAR(cost, 'FM9,999') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '99,990.99') AS a, TO_CHAR(-cost, '99,990.99') AS b, TO_CHAR(cost, '99,990.99') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'FM999.99') AS a, TO_CHAR(-cost, 'FM999.99') AS b, TO_CHAR(cost, 'FM999.99') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'FM990.00') AS a, TO_CHAR(-cost, 'FM990.00') AS b, TO_CHAR(cost, 'FM990.00') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '9990.9') AS a, TO_CHAR(-cost, '9990.9') AS b, TO_CHAR(cost, '9990.9') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'S9999') AS a, TO_CHAR(-cost, 'S9999') AS b, TO_CHAR(cost, 'S9999') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '9999S') AS a, TO_CHAR(-cost, '9999S') AS b, TO_CHAR(cost, '9999S') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '9999MI') AS a, TO_CHAR(-cost, '9999MI') AS b, TO_CHAR(cost, '9999MI') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'FM9999MI') AS a, TO_CHAR(-cost, 'FM9999MI') AS b, TO_CHAR(cost, 'FM9999MI') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'SG9999') AS a, TO_CHAR(-cost, 'SG9999') AS b, TO_CHAR(cost, 'SG9999') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'PL9999') AS a, TO_CHAR(-cost, 'PL9999') AS b, TO_CHAR(cost, 'PL9999') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '9999PR') AS a, TO_CHAR(-cost, '9999PR') AS b, TO_CHAR(cost, '9999PR') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'FM9999PR') AS a, TO_CHAR(-cost, 'FM9999PR') AS b, TO_CHAR(cost, 'FM9999PR') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'FM00000') AS a, TO_CHAR(-cost, 'FM00000') AS b, TO_CHAR(cost, 'FM00000') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '0,000.0') AS a, TO_CHAR(-cost, '0,000.0') AS b, TO_CHAR(cost, '0,000.0') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '9.99') AS a, TO_CHAR(-cost, '9.99') AS b, TO_CHAR(cost, '9.99') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'FM9.99') AS a, TO_CHAR(-cost, 'FM9.99') AS b, TO_CHAR(cost, 'FM9.99') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '99.') AS a, TO_CHAR(-cost, '99.') AS b, TO_CHAR(cost, '99.') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '"grams: "999') AS a, TO_CHAR(-cost, '"grams: "999') AS b, TO_CHAR(cost, '"grams: "999') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, '999 g') AS a, TO_CHAR(-cost, '999 g') AS b, TO_CHAR(cost, '999 g') AS c FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'FM999,999,990.00') AS a, TO_CHAR(-cost, 'FM999,999,990.00') AS b, TO_CHAR(cost, 'FM999,999,990.00') AS c FROM parcel;
        SELECT parcel, TO_CHAR(ratio, 'FM9999999990.099') AS r FROM parcel;
        SELECT parcel, TO_CHAR(grams, gate) AS g FROM parcel WHERE FALSE;
        refused: SELECT TO_CHAR(grams, '9.9.9') FROM parcel;
        """);
  }

  @Test
  void values() throws Exception {
    QueryCases.run(
        "values",
        """
        SELECT parcel, grams + 1 AS a, grams - 1 AS b, grams * 2 AS c, grams / 7 AS d, grams % 7 AS e FROM parcel;
        SELECT parcel, -grams AS n, +grams AS p, ABS(-grams) AS a, SIGN(grams) AS s FROM parcel;
        SELECT parcel, cost + 1 AS a, cost * 2 AS b, cost * cost AS c, cost - grams AS d FROM parcel;
        SELECT parcel, ROUND(cost / 3, 4) AS d, ROUND(grams / 7.0, 3) AS e, cost % 2 AS m FROM parcel;
        SELECT parcel, ratio + 1 AS a, ratio * grams AS b, ratio / 4 AS c, -ratio AS d FROM parcel;
        SELECT parcel, ROUND(cost) AS r, ROUND(cost, 1) AS s, TRUNC(cost, 1) AS t, CEIL(cost) AS c, FLOOR(cost) AS f FROM parcel;
        SELECT parcel, ROUND(cost, -1) AS r, ROUND(ratio) AS s, CEIL(ratio) AS c, FLOOR(ratio) AS f, TRUNC(ratio) AS t FROM parcel;
        SELECT parcel, POWER(grams, 2) AS p, SQRT(ABS(ratio)) AS s, EXP(0) AS e, LN(1 + ABS(ratio)) AS l FROM parcel;
        SELECT parcel, MOD(grams, 100) AS m, DIV(grams, 100) AS d, GCD(grams, 60) AS g FROM parcel WHERE grams > 0;
        SELECT parcel, GREATEST(grams, 600) AS g, LEAST(cost, 5) AS l, GREATEST(gate, service) AS t FROM parcel;
        SELECT parcel, COALESCE(gate, service, 'none') AS c, NULLIF(gate, 'G01') AS n FROM parcel;
        SELECT parcel, gate || '-' || service AS a, gate || grams AS b, CONCAT(gate, '-', grams) AS c FROM parcel;
        SELECT parcel, CONCAT_WS('/', gate, service, grams) AS c, UPPER(service) AS u, INITCAP(service) AS i FROM parcel;
        SELECT parcel, SUBSTRING(service FROM 2 FOR 3) AS a, SUBSTRING(service, 4) AS b, LEFT(service, 2) AS l, RIGHT(service, -2) AS r FROM parcel;
        SELECT parcel, POSITION('_' IN service) AS p, STRPOS(service, 'day') AS s, SPLIT_PART(service, '_', 2) AS t FROM parcel;
        SELECT parcel, LPAD(gate, 6, '*') AS l, RPAD(gate, 5) || '|' AS r, REPEAT(gate, 2) AS t, REVERSE(service) AS v FROM parcel;
        SELECT parcel, REPLACE(service, '_', ' ') AS r, TRANSLATE(service, '_y', ' Y') AS t, TRIM(BOTH 'y' FROM service) AS y FROM parcel;
        SELECT parcel, OVERLAY(service PLACING '##' FROM 2 FOR 1) AS o, LENGTH(service) AS n, OCTET_LENGTH(service) AS b FROM parcel;
        SELECT parcel, REGEXP_REPLACE(service, '[aeiou]', '.', 'g') AS r, MD5(gate) AS m, ASCII(gate) AS a FROM parcel;
        SELECT parcel, TO_CHAR(seen, 'YYYY-MM-DD HH24:MI:SS') AS t, TO_CHAR(due, 'DD Mon YYYY') AS d FROM parcel;
        SELECT parcel, TO_CHAR(grams, 'FM999,999') AS g FROM parcel WHERE grams > 0;
        SELECT parcel, date_trunc('minute', seen) AS m, date_trunc('day', seen) AS d, date_trunc('week', seen) AS w FROM parcel;
        SELECT parcel, date_bin(INTERVAL '2 minutes', seen, TIMESTAMP '2026-03-02 00:00:00') AS b FROM parcel;
        SELECT parcel, EXTRACT(YEAR FROM due) AS y, EXTRACT(MONTH FROM due) AS m, EXTRACT(DAY FROM due) AS d, EXTRACT(DOY FROM due) AS n FROM parcel;
        SELECT parcel, EXTRACT(HOUR FROM seen) AS h, EXTRACT(MINUTE FROM seen) AS m, EXTRACT(EPOCH FROM seen) AS e FROM parcel;
        SELECT parcel, due + 1 AS t, due - 7 AS w, due + INTERVAL '1 month' AS m, seen - INTERVAL '90 seconds' AS s FROM parcel;
        SELECT parcel, due - DATE '2026-03-01' AS days, seen::date AS d, due::timestamp AS s FROM parcel;
        SELECT parcel, make_date(2026, parcel, 1) AS d, TO_DATE('2026-03-0' || parcel, 'YYYY-MM-DD') AS e FROM parcel WHERE parcel < 8;
        SELECT parcel, grams::text AS t, grams::bigint AS b, cost::integer AS i, grams::numeric(10, 2) AS n, ratio::integer AS r FROM parcel;
        SELECT parcel, cost::numeric AS c, ROUND(ratio::numeric, 2) AS r, (grams::numeric / 8) AS g, '4.25'::numeric AS t FROM parcel;
        SELECT parcel, CAST(fragile AS VARCHAR) AS f, CAST(parcel AS SMALLINT) AS s, CAST('12' AS INTEGER) AS i FROM parcel;
        SELECT parcel, CASE WHEN grams IS NULL THEN 'unknown' WHEN grams < 600 THEN 'light' ELSE 'heavy' END AS c FROM parcel;
        SELECT parcel, CASE fragile WHEN TRUE THEN 1 WHEN FALSE THEN 0 END AS f, CASE WHEN FALSE THEN 1 END AS n FROM parcel;
        SELECT parcel, grams > 600 AS h, gate IS NULL AS n, gate = 'G01' AND grams > 600 AS b, NOT fragile AS f FROM parcel;
        SELECT parcel, ARRAY_LENGTH(ARRAY[gate, service], 1) AS n, (ARRAY[gate, service])[2] AS s, 'G01' = ANY (ARRAY[gate, 'x']) AS a FROM parcel;
        SELECT parcel, CARDINALITY(string_to_array(service, '_')) AS n, array_to_string(ARRAY[gate, NULL, service], '+', '?') AS t FROM parcel;
        SELECT parcel, num_nulls(gate, service, grams) AS n, num_nonnulls(gate, cost) AS k FROM parcel;
        once: SELECT parcel + 1, grams * 2 AS d, UPPER(gate), gate || 'x', COALESCE(gate, 'x'), 5 FROM parcel;
        once: SELECT CASE WHEN fragile THEN 1 END, NULLIF(grams, 0), grams::text, date_trunc('day', seen) FROM parcel;
        once: SELECT EXTRACT(YEAR FROM due), due + 1, -grams, NOT fragile, grams IS NULL FROM parcel;
        refused: SELECT parcel + gate FROM parcel;
        refused: SELECT parcel FROM parcel WHERE gate = 5;
        refused: SELECT parcel FROM parcel WHERE grams;
        refused: SELECT parcel FROM parcel WHERE gate > due;
        refused: SELECT UPPER(grams, gate) FROM parcel;
        refused: SELECT nosuch(grams) FROM parcel;
        refused: SELECT 1 / (parcel - parcel) FROM parcel;
        refused: SELECT 'x'::integer AS i;
        refused: SELECT DATE '2026-02-30' AS d;
        refused: SELECT 2147483647 + parcel AS n FROM parcel;
        refused: SELECT CASE WHEN fragile THEN 1 ELSE 'x' END FROM parcel;
        refused: SELECT COALESCE(gate, due) FROM parcel;
        refused: SELECT parcel.hall FROM parcel;
        refused: SELECT * FROM parcel WHERE parcel = 'one';
        """);
  }
}
