package dripledger.engine;

import org.junit.jupiter.api.Test;

/** Statements that change tables, as people write them: what is left is what PostgreSQL has. */
class ChangeCasesTest extends BesidePostgres {
  @Test
  void inserts() throws Exception {
    QueryCases.change(
        "inserts",
        """
        INSERT INTO nothing VALUES (1, 'one');
        INSERT INTO nothing (id) VALUES (2);
        INSERT INTO nothing (name, id) VALUES ('three', 3), (NULL, 4);
        INSERT INTO nothing SELECT parcel + 10, gate FROM parcel WHERE gate IS NOT NULL;
        INSERT INTO nothing (id, name) SELECT id + 100, van FROM handoff ORDER BY id LIMIT 2;
        INSERT INTO nothing SELECT 200 + n, 'n' || n FROM generate_series(1, 3) AS t (n);
        INSERT INTO nothing SELECT MAX(id) + 1, 'next' FROM nothing;
        INSERT INTO nothing VALUES ((SELECT MAX(id) FROM nothing) + 1, UPPER('x'));
        INSERT INTO nothing SELECT id + 1000, name FROM nothing WHERE name LIKE 'n%';
        INSERT INTO nothing SELECT 5, 'five' WHERE NOT EXISTS (SELECT 1 FROM nothing WHERE id = 5);
        INSERT INTO nothing SELECT 5, 'again' WHERE NOT EXISTS (SELECT 1 FROM nothing WHERE id = 5);
        INSERT INTO gate (gate, hall) VALUES ('G10', 'East');
        INSERT INTO gate VALUES ('G11', NULL, 2 + 3 * 4), ('G12', 'a''b', -1);
        INSERT INTO parcel (parcel, cost, seen, due, fragile, ratio) VALUES (50, 1.005, '2026-03-04 01:02:03.5', '2026-03-05', TRUE, 1e3);
        INSERT INTO parcel (parcel, grams) VALUES (51, 2.5), (52, 17);
        INSERT INTO parcel (parcel, cost) SELECT 60 + id, cents / 3 FROM surcharge;
        INSERT INTO surcharge (id, cents, since) VALUES (70, 9000000000, DATE '2026-01-01' + 5);
        refused: INSERT INTO nothing VALUES (1, 'again');
        refused: INSERT INTO nothing VALUES (900, 'a'), (900, 'b');
        refused: INSERT INTO nothing VALUES (NULL, 'none');
        refused: INSERT INTO nothing (name) VALUES ('no key');
        refused: INSERT INTO nothing VALUES (901, 'x', 3);
        refused: INSERT INTO nothing (id, nosuch) VALUES (902, 'x');
        refused: INSERT INTO nothing (id, id) VALUES (903, 904);
        refused: INSERT INTO nothing VALUES ('nine', 'x');
        refused: INSERT INTO nothing VALUES (905, 'x'), (1, 'y');
        refused: INSERT INTO parcel (parcel, grams) VALUES (80, 3000000000);
        refused: INSERT INTO parcel (parcel, cost) VALUES (81, 12345678.9);
        refused: INSERT INTO parcel (parcel, due) VALUES (82, '2026-13-01');
        refused: INSERT INTO parcel (parcel, fragile) VALUES (83, 5);
        refused: INSERT INTO nothing SELECT 906, 1 / (id - 1) || '' FROM nothing WHERE id = 1;
        refused: INSERT INTO nosuch VALUES (1);
        """);
  }

  @Test
  void updates() throws Exception {
    QueryCases.change(
        "updates",
        """
        UPDATE parcel SET grams = 1 WHERE parcel = 1;
        UPDATE parcel SET grams = grams + 1, cost = cost * 2 WHERE grams > 600;
        UPDATE parcel SET grams = parcel, service = UPPER(service) WHERE service LIKE '%day';
        UPDATE parcel SET gate = NULL, fragile = NOT fragile WHERE gate = 'G02';
        UPDATE parcel SET grams = NULL WHERE fragile IS NULL;
        UPDATE parcel SET grams = 7 WHERE FALSE;
        UPDATE parcel SET grams = COALESCE(grams, 0) + 10;
        UPDATE parcel SET grams = CASE WHEN fragile THEN grams * 2 ELSE grams END;
        UPDATE parcel SET gate = 'G05' WHERE parcel IN (SELECT parcel FROM handoff);
        UPDATE parcel SET grams = 0 WHERE NOT EXISTS (SELECT 1 FROM gate WHERE gate.gate = parcel.gate);
        UPDATE parcel SET grams = (SELECT MAX(capacity) FROM gate) WHERE parcel = 2;
        UPDATE parcel SET due = due + 1, seen = seen + INTERVAL '1 day' WHERE due IS NOT NULL;
        UPDATE parcel SET cost = 1.239 WHERE parcel < 3;
        UPDATE parcel SET ratio = grams / 4 WHERE grams > 0;
        UPDATE parcel SET parcel = parcel + 100;
        UPDATE parcel SET parcel = 1000 - parcel WHERE parcel > 104;
        UPDATE gate SET gate = gate || 'x', hall = NULL WHERE capacity > 20;
        UPDATE gate SET capacity = capacity + (SELECT COUNT(*) FROM parcel WHERE parcel.gate = gate.gate);
        UPDATE surcharge SET cents = cents + id, since = DATE '2026-05-05' WHERE id % 2 = 0;
        UPDATE handoff SET van = 'V9' WHERE at > (SELECT MIN(at) FROM handoff);
        refused: UPDATE parcel SET parcel = 5;
        refused: UPDATE parcel SET parcel = NULL WHERE parcel = 101;
        refused: UPDATE parcel SET grams = 'heavy' WHERE parcel = 101;
        refused: UPDATE parcel SET grams = 1 / (grams - grams);
        refused: UPDATE parcel SET nosuch = 1;
        refused: UPDATE parcel SET grams = 1, grams = 2;
        refused: UPDATE parcel SET grams = 2147483647 + parcel;
        refused: UPDATE parcel SET gate = (SELECT gate FROM gate);
        refused: UPDATE nosuch SET x = 1;
        refused: UPDATE gate SET gate = 'G05x' WHERE capacity IS NOT NULL;
        """);
  }

  @Test
  void deletes() throws Exception {
    QueryCases.change(
        "deletes",
        """
        DELETE FROM parcel WHERE parcel = 1;
        DELETE FROM parcel WHERE parcel = 1;
        DELETE FROM parcel WHERE grams IS NULL AND fragile;
        DELETE FROM parcel WHERE gate IN (SELECT gate FROM gate WHERE hall = 'South');
        DELETE FROM gate WHERE NOT EXISTS (SELECT 1 FROM parcel WHERE parcel.gate = gate.gate);
        DELETE FROM handoff WHERE at < (SELECT MAX(at) FROM handoff);
        DELETE FROM surcharge WHERE cents > 100 OR cents IS NULL;
        DELETE FROM surcharge WHERE since BETWEEN DATE '2026-01-01' AND DATE '2026-02-15';
        DELETE FROM parcel WHERE grams = (SELECT MAX(grams) FROM parcel);
        INSERT INTO parcel (parcel, gate) VALUES (1, 'G01'), (77, 'G02');
        DELETE FROM parcel WHERE parcel > 5 AND gate IS NOT NULL;
        refused: DELETE FROM parcel WHERE nosuch = 1;
        refused: DELETE FROM parcel WHERE grams;
        refused: DELETE FROM nosuch;
        DELETE FROM parcel;
        DELETE FROM parcel;
        INSERT INTO parcel (parcel, grams) VALUES (1, 1);
        """);
  }
}
