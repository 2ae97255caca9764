package dripledger.engine;

import org.junit.jupiter.api.Test;

/** JSON, arrays and regular expressions as people write them, answered as PostgreSQL does. */
class TextCasesTest extends BesidePostgres {
  private static final String DOC =
      "(VALUES (1, '{\"gate\":\"G01\",\"n\":5,\"deep\":{\"a\":[1,2,{\"b\":null}],\"t\":true},\"list\":[\"x\",\"y\"]}'),"
          + " (2, '{\"gate\":null,\"n\":-2.50,\"list\":[]}'), (3, '[1,\"two\",[3],{\"four\":4}]'), (4, '\"text\"'),"
          + " (5, '12'), (6, NULL)) AS d (id, doc)";

  @Test
  void json() throws Exception {
    QueryCases.run(
        "json",
        """
        SELECT id, doc::json ->> 'gate' AS g, doc::json ->> 'n' AS n FROM DOC WHERE id < 3;
        SELECT id, doc::json -> 'deep' ->> 't' AS t, doc::json #>> '{deep,a,0}' AS a FROM DOC WHERE id < 3;
        SELECT id, doc::json #>> '{deep,a,2,b}' AS b, doc::json #>> '{list,1}' AS l FROM DOC WHERE id < 3;
        SELECT id, doc::json ->> 1 AS s, doc::json -> 3 ->> 'four' AS f, doc::json ->> -1 AS l FROM DOC WHERE id = 3;
        SELECT id, doc::json ->> 'nosuch' AS x, doc::json #>> '{deep,nosuch}' AS y FROM DOC WHERE id < 4;
        SELECT id, json_typeof(doc::json) AS t FROM DOC;
        SELECT id, json_array_length(doc::json -> 'list') AS n FROM DOC WHERE id < 3;
        SELECT id, json_extract_path_text(doc::json, 'deep', 'a', '1') AS a FROM DOC WHERE id < 3;
        SELECT id, (doc::json ->> 'n')::numeric(10, 2) + 1 AS n FROM DOC WHERE id < 3;
        SELECT d.id, e.value AS v FROM DOC, LATERAL json_array_elements_text(doc::json -> 'list') AS e (value) WHERE d.id < 3;
        SELECT d.id, k.key AS k FROM DOC, LATERAL json_object_keys(doc::json) AS k (key) WHERE d.id < 3;
        SELECT id FROM DOC WHERE id < 3 AND doc::json ->> 'gate' = 'G01';
        SELECT id FROM DOC WHERE id < 3 AND (doc::json ->> 'n')::numeric(8, 2) < 0;
        SELECT json_build_object('gate', gate, 'n', capacity) ->> 'n' AS n FROM gate;
        SELECT hall, json_array_length(JSON_AGG(gate)) AS n FROM gate GROUP BY hall;
        SELECT JSON_OBJECT_AGG(gate, capacity) ->> 'G01' AS c FROM gate;
        """
            .replace("DOC", DOC));
  }

  @Test
  void arrays() throws Exception {
    QueryCases.run(
        "arrays",
        """
        SELECT gate, (ARRAY[gate, hall])[1] AS f, (ARRAY[gate, hall])[2] AS s, (ARRAY[gate, hall])[3] AS t FROM gate;
        SELECT gate, CARDINALITY(ARRAY[gate, hall]) AS n, array_length(ARRAY[capacity, 1, 2], 1) AS l FROM gate;
        SELECT gate, hall = ANY (ARRAY['North', 'West']) AS a, capacity > ALL (ARRAY[5, 20]) AS b FROM gate;
        SELECT gate, array_to_string(ARRAY[gate, hall], ', ') AS s, array_to_string(ARRAY[gate, hall], ', ', '-') AS t FROM gate;
        SELECT gate, array_position(ARRAY['a', hall, 'b'], 'b') AS p, array_to_string(array_append(ARRAY[gate], hall), '/') AS a FROM gate;
        SELECT gate, array_to_string(array_prepend('first', ARRAY[gate]), '/') AS p, array_to_string(ARRAY[gate] || ARRAY['x', 'y'], '/') AS c FROM gate;
        SELECT gate, array_to_string(string_to_array('a,b,,c', ','), '|') AS s, (string_to_array(gate, 'G'))[2] AS n FROM gate;
        SELECT g.gate, u.part FROM gate g, LATERAL UNNEST(ARRAY[g.gate, g.hall, 'x']) AS u (part);
        SELECT g.gate, u.part, u.n FROM gate g, LATERAL UNNEST(ARRAY[g.gate, g.hall]) WITH ORDINALITY AS u (part, n);
        SELECT g.gate, u.k FROM gate g LEFT JOIN LATERAL generate_series(1, g.capacity / 20) AS u (k) ON TRUE;
        SELECT hall, array_to_string(ARRAY_AGG(gate ORDER BY gate), ',') AS g, (ARRAY_AGG(gate ORDER BY gate DESC))[1] AS last FROM gate GROUP BY hall;
        SELECT hall FROM gate GROUP BY hall HAVING 'G01' = ANY (ARRAY_AGG(gate));
        SELECT gate FROM gate WHERE gate = ANY (string_to_array('G01,G04,G99', ','));
        SELECT gate FROM gate WHERE NOT (gate = ANY (ARRAY['G01', 'G02']));
        SELECT gate FROM gate WHERE capacity <> ALL (ARRAY[60, NULL]);
        """);
  }

  @Test
  void patterns() throws Exception {
    QueryCases.run(
        "patterns",
        """
        SELECT gate FROM gate WHERE gate LIKE 'G0_';
        SELECT gate FROM gate WHERE gate LIKE '%3' OR hall LIKE '%or%';
        SELECT gate FROM gate WHERE hall NOT LIKE 'N%';
        SELECT gate FROM gate WHERE hall ILIKE 'nor%' OR hall ILIKE '%ST';
        SELECT gate FROM gate WHERE 'a_b%c' LIKE 'a\\_b\\%c' AND 'a_b' LIKE 'a!_b' ESCAPE '!';
        SELECT gate FROM gate WHERE gate ~ '^G0[1-3]$';
        SELECT gate FROM gate WHERE hall ~* 'NORTH|west' AND gate !~ '2';
        SELECT gate, regexp_replace(gate, '([A-Z])0*', '\\1-') AS r, regexp_replace(hall, '[aeiou]', '', 'g') AS v FROM gate;
        SELECT gate, regexp_replace(hall, 'O', '0', 'gi') AS r, substring(gate from '[0-9]+') AS d FROM gate;
        SELECT gate, (regexp_match(gate, '(G)(\\d+)'))[2] AS n, regexp_count(hall, 'o|t') AS c, regexp_like(hall, 'th$') AS l FROM gate;
        SELECT g.gate, p.part FROM gate g, LATERAL regexp_split_to_table(g.hall, '[ot]') AS p (part);
        SELECT gate, array_to_string(regexp_split_to_array('a1b22c', '[0-9]+'), '|') AS s FROM gate;
        SELECT gate, hall SIMILAR TO '(North|South)' AS s, gate SIMILAR TO 'G0[0-4]+' AS g, hall SIMILAR TO '%o_th' AS u FROM gate;
        SELECT gate, position('0' IN gate) AS p, strpos(hall, 'th') AS s, char_length(hall) AS l FROM gate;
        SELECT gate, split_part('a-b-c', '-', 2) AS s, split_part(gate, '0', 2) AS t, split_part('a-b-c', '-', -1) AS u FROM gate;
        SELECT gate, starts_with(hall, 'No') AS s, lower(hall) AS l, initcap('two words') AS i, ltrim(gate, 'G0') AS t FROM gate;
        SELECT gate, md5(hall) AS m, substring(hall from '(o.)t') AS h, rtrim(hall, 'th') AS b FROM gate;
        SELECT gate, lpad(capacity::text, 4, '0') AS l, rpad(gate, 5, '.') AS r, repeat('ab', 2) AS t, reverse(hall) AS v FROM gate;
        SELECT gate, translate(hall, 'oh', '0H') AS t, replace(hall, 'th', 'TH') AS r, chr(65) AS c, ascii(hall) AS a FROM gate;
        SELECT gate, concat(gate, NULL, capacity) AS c, concat_ws('-', gate, NULL, hall) AS w, gate || COALESCE(hall, '') AS o FROM gate;
        SELECT gate, left(hall, 2) AS l, left(hall, -1) AS m, right(hall, 3) AS r, substr(hall, 2, 2) AS s, substring(hall, 0, 3) AS z FROM gate;
        refused: SELECT gate FROM gate WHERE gate ~ '(';
        refused: SELECT regexp_replace(gate, '[', 'x') FROM gate;
        refused: SELECT split_part(gate, '0', 0) FROM gate;
        refused: SELECT chr(-1) FROM gate;
        refused: SELECT repeat('a', 2000000000) FROM gate;
        refused: SELECT decode('zz', 'hex') FROM gate;
        """);
  }
}
