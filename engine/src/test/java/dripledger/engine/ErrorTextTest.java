package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;

import dripledger.engine.error.EngineException;
import java.util.ArrayList;
import java.util.List;
import java.util.Objects;
import java.util.stream.Stream;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.MethodSource;

/**
 * What is said of statements that cannot be carried out: what is wrong, in which line and column,
 * and what to do about it. Nothing has changed behind any of them.
 */
class ErrorTextTest {
  /** A statement; below it its kind, place (0:0 is nowhere) and message, and the hint or a dash. */
  private static final String DEFINITIONS =
      """
      ALTER TABLE gate SET (idle_after '5 seconds')
        INVALID 1:13 a table has no options to change
        -
      ALTER STREAM scan SET (colour 'red')
        INVALID 1:24 option "colour" of a stream cannot be changed
        DROP the stream and create it again
      ALTER STREAM scan ADD COLUMN grams INTEGER
        INVALID 1:30 column "grams" is there already
        -
      ALTER STREAM scan ADD COLUMN extra INTEGER NOT NULL
        INVALID 1:30 a column added later cannot be NOT NULL
        earlier events do not have it
      ALTER STREAM scan ADD COLUMN extra
        SYNTAX 1:35 the statement ends too early
        something is missing here
      ALTER STREAM scan ADD COLUMN extra COLOUR
        INVALID 1:36 no type "colour"
        types: BOOLEAN, SMALLINT, INTEGER, BIGINT, REAL, DOUBLE, DECIMAL(p, s), VARCHAR, VARBINARY, DATE, TIME, TIMESTAMP, ROW(…), T ARRAY
      ALTER TABLE gate ADD COLUMN extra INTEGER
        INVALID 1:13 columns can be added to streams only
        drop the table and create it again; it is read anew
      CREATE INDEX quick ON gate (hall)
        INVALID 1:14 an index has no name: it is called by what it is on
        write CREATE INDEX ON gate (…)
      CREATE INDEX ON gate (hall, hall)
        INVALID 1:29 "hall" is there twice
        -
      CREATE INDEX ON gate (colour)
        INVALID 1:23 no column "colour"
        -
      CREATE INDEX ON scan (gate)
        INVALID 1:17 an index is on a table or a materialized view; "scan" is a stream
        keep what is looked up as a materialized view
      DROP INDEX ON gate (hall)
        NOT_FOUND 1:21 there is no index on gate (hall)
        -
      CREATE TABLE t (a INTEGER, a INTEGER, PRIMARY KEY (a))
        INVALID 1:28 column "a" is declared twice
        -
      CREATE TABLE t (a INTEGER)
        INVALID 1:14 a table needs a primary key
        add PRIMARY KEY to a column or PRIMARY KEY (…)
      CREATE TABLE t
        INVALID 1:14 no columns are declared
        write (name TYPE, …) after the name
      CREATE TABLE t (a INTEGER PRIMARY KEY, PRIMARY KEY (a))
        INVALID 1:53 PRIMARY KEY is declared twice
        -
      CREATE TABLE t (a INTEGER, PRIMARY KEY (b))
        INVALID 1:41 no column "b"
        did you mean "a"?
      CREATE TABLE t (a INTEGER, PRIMARY KEY (a, a))
        INVALID 1:44 "a" is there twice
        -
      CREATE TABLE t (a COLOUR PRIMARY KEY)
        INVALID 1:19 no type "colour"
        types: BOOLEAN, SMALLINT, INTEGER, BIGINT, REAL, DOUBLE, DECIMAL(p, s), VARCHAR, VARBINARY, DATE, TIME, TIMESTAMP, ROW(…), T ARRAY
      CREATE TABLE t (a DECIMAL(39, 2) PRIMARY KEY)
        INVALID 1:19 a DECIMAL has 38 digits at most
        or use DOUBLE
      CREATE TABLE t (a INTEGER PRIMARY KEY, at TIMESTAMP, EVENT TIME at LATENESS INTERVAL '1' MINUTE)
        INVALID 1:65 a table has no event time
        use CREATE STREAM for events
      CREATE TABLE t (a INTEGER PRIMARY KEY META offset)
        INVALID 1:44 a local table has no transport to ask for META columns
        -
      CREATE STREAM s
        INVALID 1:15 no columns are declared
        write (name TYPE, …) after the name
      CREATE STREAM s (a INTEGER, EVENT TIME a LATENESS INTERVAL '1' MINUTE)
        INVALID 1:40 EVENT TIME needs a TIMESTAMP column
        -
      CREATE STREAM s (a INTEGER, EVENT TIME at LATENESS INTERVAL '1' MINUTE)
        INVALID 1:40 no column "at" for EVENT TIME
        -
      CREATE STREAM s (at TIMESTAMP, EVENT TIME at LATENESS INTERVAL '1' MONTH)
        INVALID 1:55 LATENESS is in days or less
        -
      CREATE STREAM s (at TIMESTAMP META offset)
        INVALID 1:36 META offset of a pushed stream is not known
        a pushed stream knows arrived_at
      CREATE STREAM s (at INTEGER META arrived_at)
        INVALID 1:18 arrived_at is a TIMESTAMP
        -
      CREATE STREAM s (a INTEGER META arrived_at PATH '$.a')
        INVALID 1:18 arrived_at is a TIMESTAMP
        -
      CREATE STREAM gate (a INTEGER)
        ALREADY_EXISTS 0:0 there is a table "gate" already
        choose another name, DROP it first, or write CREATE OR REPLACE for a view or an endpoint
      CREATE STREAM a.b (a INTEGER)
        INVALID 1:15 names have no dots here
        all objects live in one place; write b
      CREATE STREAM s (a INTEGER) FROM nowhere (topic 'x')
        NOT_FOUND 1:34 no connection "nowhere"
        -
      CREATE CONNECTION c TYPE teapot (host 'x')
        SYNTAX 1:33 did not expect "(" here
        -
      CREATE MATERIALIZED VIEW v AS SELECT * FROM drip.views
        NOT_FOUND 1:45 no stream, table or view "drip"
        SHOW STREAMS, SHOW TABLES and SHOW VIEWS list what there is
      CREATE MATERIALIZED VIEW v AS SELECT gate, gate FROM gate
        INVALID 1:31 column "gate" appears twice
        rename one with AS
      CREATE MATERIALIZED VIEW v (a, b, c) AS SELECT gate, hall FROM gate
        INVALID 1:35 3 names for 2 columns
        leave out those that are too many
      CREATE MATERIALIZED VIEW v (a, a) AS SELECT gate, hall FROM gate
        INVALID 1:38 column "a" appears twice
        rename one with AS
      CREATE MATERIALIZED VIEW v AS SELECT gate FROM nowhere
        NOT_FOUND 1:48 no stream, table or view "nowhere"
        SHOW STREAMS, SHOW TABLES and SHOW VIEWS list what there is
      CREATE MATERIALIZED VIEW v AS SELECT colour FROM gate
        NOT_FOUND 1:38 no column "colour" here
        gate has gate, hall
      CREATE MATERIALIZED VIEW v AS SELECT CURRENT_TIMESTAMP AS t FROM gate
        NOT_SUPPORTED 1:38 not supported yet in a view: now, the current time, in what is computed
        compare a time of the row with it, as in at > CURRENT_TIMESTAMP - INTERVAL '5' MINUTE
      CREATE MATERIALIZED VIEW v AS SELECT gate FROM gate WHERE hall = :hall
        INVALID 1:66 no value was given for :hall
        pass it in args: {"hall": …}
      CREATE MATERIALIZED VIEW gate AS SELECT hall FROM gate
        ALREADY_EXISTS 0:0 there is a table "gate" already
        choose another name, DROP it first, or write CREATE OR REPLACE for a view or an endpoint
      CREATE MATERIALIZED VIEW totals AS SELECT hall FROM gate
        ALREADY_EXISTS 0:0 there is a materialized view "totals" already
        choose another name, DROP it first, or write CREATE OR REPLACE for a view or an endpoint
      CREATE VIEW v AS VALUES (1), (1, 2)
        INVALID 1:18 rows of VALUES have as many values each, of types that go together
        cast one of them, for example CAST(x AS INTEGER)
      DROP TABLE gate
        IN_USE 0:0 gate cannot be dropped: materialized view totals, view hall_names, view above read from it
        DROP … CASCADE drops them too
      DROP TABLE nowhere
        NOT_FOUND 1:12 no table "nowhere"
        -
      DROP TABLE scan
        INVALID 1:12 "scan" is a stream
        write DROP STREAM scan
      DROP STREAM gate
        INVALID 1:13 "gate" is a table
        write DROP TABLE gate
      DROP MATERIALIZED VIEW hall_names
        INVALID 1:24 "hall_names" is a view
        write DROP VIEW hall_names
      EXPLAIN gate
        INVALID 1:9 a table has no plan
        EXPLAIN takes a view or a query
      EXPLAIN nowhere
        NOT_FOUND 1:9 no stream, table or view "nowhere"
        -
      EXPLAIN DROP TABLE gate
        SYNTAX 1:14 did not expect "TABLE" here
        is a comma, an operator or a quote missing before it? a reserved word used as a name needs "double quotes"
      SHOW COLOURS
        SYNTAX 1:1 did not expect "SHOW" here
        check what follows it, such as SHOW VIEWS, CREATE STREAM or DROP VIEW
      REFRESH TABLE gate
        INVALID 1:15 "gate" is changed by statements only
        -
      LOCK gate
        SYNTAX 1:1 did not expect "LOCK" here
        a statement starts with SELECT, FOLLOW, CREATE, INSERT, UPDATE, DELETE, DROP, EXPLAIN, DESCRIBE or SHOW
      """;

  private static final String CHANGES =
      """
      INSERT INTO totals VALUES ('x', 1)
        INVALID 1:13 a view cannot be changed
        change what it reads from
      INSERT INTO gate VALUES (1)
        CONSTRAINT 0:0 gate already has a row with gate = 1
        UPDATE the row, or DELETE it first
      INSERT INTO gate VALUES (NULL, 'x')
        CONSTRAINT 1:18 column "gate" must not be NULL
        give it a value
      INSERT INTO gate VALUES (7, 'x'), (7, 'y')
        CONSTRAINT 0:0 gate already has a row with gate = 7
        UPDATE the row, or DELETE it first
      INSERT INTO gate (gate, gate) VALUES (1, 2)
        INVALID 1:25 column "gate" is there twice
        -
      INSERT INTO gate (gate, colour) VALUES (1, 2)
        NOT_FOUND 1:25 no column "colour"
        gate has gate, hall
      INSERT INTO gate SELECT 'x', 'y'
        FAILED 0:0 1 row could not be computed: 'x' is not a valid integer
        leave them out with WHERE, or guard the expression with CASE
      INSERT INTO gate VALUES (99999999999, 'x')
        FAILED 0:0 1 row could not be computed: 99999999999 is out of range for INTEGER
        leave them out with WHERE, or guard the expression with CASE
      UPDATE gate SET colour = 'red'
        NOT_FOUND 1:17 no column "colour"
        gate has gate, hall
      UPDATE gate SET gate = NULL WHERE gate = 1
        CONSTRAINT 0:0 column "gate" of gate must not be NULL
        -
      UPDATE gate SET gate = 5
        CONSTRAINT 0:0 gate already has a row with gate = 5
        UPDATE the row, or DELETE it first
      UPDATE totals SET n = 1
        INVALID 1:8 a view cannot be changed
        change what it reads from
      DELETE FROM totals
        INVALID 1:13 a view cannot be changed
        change what it reads from
      DELETE FROM nowhere
        NOT_FOUND 1:13 no stream, table or view "nowhere"
        -
      BEGIN; BEGIN
        INVALID 0:0 BEGIN inside BEGIN
        COMMIT first
      COMMIT
        INVALID 0:0 COMMIT without BEGIN
        -
      BEGIN; CREATE TABLE t (a INTEGER PRIMARY KEY); COMMIT
        INVALID 0:0 definitions cannot be part of a transaction
        COMMIT first
      FOLLOW INSERT INTO gate VALUES (1, 'x')
        SYNTAX 1:1 did not expect "FOLLOW" here
        check what follows it, such as SHOW VIEWS, CREATE STREAM or DROP VIEW
      MERGE INTO gate USING scan ON true WHEN MATCHED THEN DELETE
        SYNTAX 1:54 did not expect "DELETE" here
        is a comma, an operator or a quote missing before it? a reserved word used as a name needs "double quotes"
      """;

  private static final String QUERIES =
      """
      SELECT * FROM gate LIMIT -1
        SYNTAX 1:26 did not expect "-" here
        -
      SELECT * FROM gate LIMIT gate
        SYNTAX 1:26 did not expect "gate" here
        is a comma, an operator or a quote missing before it? a reserved word used as a name needs "double quotes"
      SELECT * FROM gate WHERE gate = ?
        INVALID 1:33 a parameter has a name here
        write :name instead of ?
      SELECT gate FROM gate GROUP BY hall
        INVALID 1:8 "gate" must be in GROUP BY or inside an aggregate
        -
      SELECT COUNT(*) FROM gate WHERE COUNT(*) > 1
        INVALID 1:33 an aggregate cannot be in WHERE
        HAVING asks of groups
      SELECT SUM(SUM(gate)) FROM gate
        INVALID 1:8 aggregate expressions cannot be nested
        -
      SELECT SUM(hall) FROM gate
        INVALID 1:8 "SUM" does not go with these types: SUM(text)
        cast one of them, for example CAST(x AS INTEGER)
      SELECT gate + hall FROM gate
        INVALID 1:8 "+" does not go with these types: INTEGER + text
        cast one of them, for example CAST(x AS INTEGER)
      SELECT gate FROM gate WHERE hall = 5
        INVALID 1:29 "=" does not go with these types: text = INTEGER
        cast one of them, for example CAST(x AS INTEGER)
      SELECT gate FROM gate WHERE gate
        INVALID 1:29 WHERE clause must be a condition
        -
      SELECT no_such_function(gate) FROM gate
        NOT_FOUND 1:8 no function no_such_function(NUMERIC)
        check the number and types of its arguments
      SELECT ROUND(gate, 1, 2) FROM gate
        NOT_FOUND 1:8 no function round(NUMERIC, NUMERIC, NUMERIC)
        check the number and types of its arguments
      SELECT date_trunc('fortnight', at) FROM scan
        INVALID 1:8 date_trunc needs a unit and a timestamp
        date_trunc('minute', at); units: second, minute, hour, day, week, month, quarter, year
      SELECT date_trunc('minute') FROM scan
        SYNTAX 1:27 did not expect ")" here
        -
      SELECT EXTRACT(COLOUR FROM at) FROM scan
        INVALID 1:16 no unit of time "colour"
        units: second, minute, hour, day, week, month, quarter, year, dow, doy, epoch
      SELECT CAST(hall AS COLOUR) FROM gate
        INVALID 1:21 no type "colour"
        -
      SELECT 1 / 0
        FAILED 0:0 1 row could not be computed: division by zero
        leave them out with WHERE, or guard the expression with CASE
      SELECT CAST('x' AS INTEGER)
        FAILED 0:0 1 row could not be computed: 'x' is not a valid integer
        leave them out with WHERE, or guard the expression with CASE
      SELECT 2147483647 + 1
        FAILED 0:0 1 row could not be computed: 2147483648 is out of range for INTEGER
        leave them out with WHERE, or guard the expression with CASE
      SELECT DATE '2026-02-30'
        INVALID 1:8 illegal DATE literal '2026-02-30': not in format 'yyyy-MM-dd'
        -
      SELECT TIMESTAMP 'yesterday'
        INVALID 1:8 illegal TIMESTAMP literal "yesterday": not in format 'yyyy-MM-dd HH:mm:ss'
        -
      SELECT INTERVAL '5 parsecs'
        SYNTAX 1:8 no unit of time "parsecs"
        -
      SELECT ARRAY[1, 'x']
        INVALID 1:8 an array has elements of one kind, and one at least
        cast them, for example ARRAY[CAST(1 AS VARCHAR), 'a']
      SELECT 'unfinished
        SYNTAX 1:8 a text begins here and has no end
        write ' behind it; within it ' is written twice
      SELECT "unfinished
        SYNTAX 1:8 a name begins here and has no end
        write " behind it; within it " is written twice
      SELECT gate FROM gate; SELEC 1
        SYNTAX 1:24 did not expect "SELEC" here
        did you mean SELECT?
      SELECT gate FROM gate ORDER BY 3
        INVALID 1:32 there is no column of that number
        -
      SELECT gate FROM gate ORDER BY colour
        NOT_FOUND 1:32 no column "colour" here
        gate has gate, hall
      SELECT gate FROM gate AS a JOIN gate AS b ON a.gate = b.gate
        INVALID 1:8 column "gate" is ambiguous
        write whose it is in front of it: relation.gate
      SELECT a.gate FROM gate AS a JOIN gate AS a ON true
        INVALID 1:35 "a" is there twice in FROM
        -
      SELECT gate FROM gate UNION SELECT gate, hall FROM gate
        INVALID 1:36 column count mismatch in UNION
        -
      SELECT gate FROM gate UNION SELECT hall FROM gate
        INVALID 1:1 column 1 is a number here and text in the other query
        cast one of them, for example CAST(x AS VARCHAR)
      SELECT (SELECT gate, hall FROM gate)
        INVALID 1:8 a query in the place of a value has one column
        leave out the others
      SELECT gate FROM gate WHERE gate IN (SELECT gate, hall FROM gate)
        INVALID 1:29 IN compares as many values as the query has columns, of types that go together
        cast one of them, for example CAST(x AS INTEGER)
      SELECT LAG(gate) FROM gate
        INVALID 1:8 OVER clause is necessary for window functions
        -
      SELECT ROW_NUMBER() OVER () FROM gate WHERE ROW_NUMBER() OVER () = 1
        INVALID 1:45 a window function cannot be in WHERE
        QUALIFY asks of window functions
      SELECT SUM(gate) OVER (ORDER BY gate ROWS BETWEEN gate PRECEDING AND CURRENT ROW) FROM gate
        NOT_SUPPORTED 1:1 not supported yet: an offset of a frame that is not constant
        -
      SELECT SUM(gate) OVER (ORDER BY gate ROWS BETWEEN -1 PRECEDING AND CURRENT ROW) FROM gate
        INVALID 1:51 ROWS value must be a non-negative integral constant
        -
      SELECT SUM(gate) OVER (ORDER BY hall RANGE BETWEEN 1 PRECEDING AND CURRENT ROW) FROM gate
        INVALID 1:52 data type of ORDER BY prohibits use of RANGE clause
        -
      SELECT SUM(gate) OVER (RANGE BETWEEN 1 PRECEDING AND CURRENT ROW) FROM gate
        INVALID 1:23 window specification must contain an ORDER BY clause
        -
      SELECT SUM(gate) OVER (GROUPS BETWEEN 1 PRECEDING AND CURRENT ROW) FROM gate
        INVALID 1:1 GROUPS needs ORDER BY
        -
      SELECT COUNT(DISTINCT gate) OVER (ORDER BY gate) FROM gate
        NOT_SUPPORTED 1:1 not supported yet: DISTINCT in COUNT over less than the whole partition
        -
      SELECT NTILE(gate) OVER (ORDER BY gate) FROM gate
        INVALID 1:8 argument to function "NTILE" must be a literal
        -
      SELECT NTH_VALUE(gate, gate) OVER (ORDER BY gate) FROM gate
        NOT_SUPPORTED 1:1 not supported yet: a number in NTH_VALUE that is not constant
        -
      SELECT SUM(gate) OVER w FROM gate
        INVALID 1:23 no window "w"
        WINDOW w AS (…) names one
      SELECT PERCENTILE_CONT(2) WITHIN GROUP (ORDER BY gate) FROM gate
        INVALID 1:8 argument to function "PERCENTILE_CONT" must be a numeric literal between 0 and 1
        -
      SELECT * FROM scan, TABLE(TUMBLE(scan, at))
        INVALID 1:27 TUMBLE takes a relation, its time, the size of windows, and perhaps where they begin
        TUMBLE (TABLE scan, DESCRIPTOR (at), INTERVAL '5' MINUTE)
      SELECT at + INTERVAL '0.0005 seconds' FROM scan
        INVALID 1:13 an interval is of whole milliseconds
        round it to three digits
      SELECT * FROM scan MATCH_RECOGNIZE (ORDER BY at PATTERN (a b) DEFINE c AS true)
        INVALID 1:70 no variable "c" in the pattern
        the variables are a, b
      WITH RECURSIVE r AS (SELECT 1 AS n UNION ALL SELECT n + 1 FROM r) SELECT * FROM r
        NOT_SUPPORTED 1:6 not supported yet: WITH RECURSIVE
        -
      SELECT jsonb_nothing('{}')
        NOT_FOUND 1:8 no function jsonb_nothing(CHARACTER)
        check the number and types of its arguments
      SELECT '{' -> 'a'
        FAILED 0:0 1 row could not be computed: not JSON: Unexpected end-of-input: expected close marker for Object
        leave them out with WHERE, or guard the expression with CASE
      SELECT REPEAT('x', 100000000)
        FAILED 0:0 1 row could not be computed: REPEAT would make a value above 512 KiB
        leave them out with WHERE, or guard the expression with CASE
      SELECT gate FROM gate WHERE hall LIKE 'a' ESCAPE 'bb'
        FAILED 0:0 2 rows could not be computed: ESCAPE is one character or none
        leave them out with WHERE, or guard the expression with CASE
      SELECT hall SIMILAR TO '(' FROM gate
        FAILED 0:0 2 rows could not be computed: not a pattern of SIMILAR TO: (
        leave them out with WHERE, or guard the expression with CASE
      SELECT regexp_like(hall, '(') FROM gate
        FAILED 0:0 2 rows could not be computed: not a regular expression: error parsing regexp: missing closing ): `(?s)(`
        leave them out with WHERE, or guard the expression with CASE
      SELECT 1 AS a, 2 AS a ORDER BY a
        INVALID 1:32 column "a" is ambiguous
        write whose it is in front of it: relation.a
      SELECT gate FROM gate WHERE hall LIKE 'a\\'
        FAILED 0:0 2 rows could not be computed: a LIKE pattern must not end with its escape character
        leave them out with WHERE, or guard the expression with CASE
      SELECT date_part('colour', TIMESTAMP '2026-01-01 00:00:00')
        FAILED 0:0 1 row could not be computed: no such unit of time: colour
        leave them out with WHERE, or guard the expression with CASE
      """;

  private static final String THERE =
      """
      CREATE TABLE gate (gate INTEGER PRIMARY KEY, hall VARCHAR);
      CREATE STREAM scan (parcel INTEGER, gate INTEGER, grams INTEGER, at TIMESTAMP,
        EVENT TIME at LATENESS INTERVAL '1' MINUTE);
      CREATE MATERIALIZED VIEW totals AS SELECT hall, COUNT(*) AS n FROM gate GROUP BY hall;
      CREATE VIEW hall_names AS SELECT hall FROM totals;
      CREATE VIEW above AS SELECT hall FROM hall_names;
      INSERT INTO gate VALUES (1, 'north'), (2, 'south');
      """;

  private static TestEngine db;
  private static List<String> objects;

  private record Case(String statement, String said, String hint) {
    @Override
    public String toString() {
      return statement;
    }
  }

  private static Stream<Case> cases() {
    List<Case> cases = new ArrayList<>();
    for (String text : List.of(DEFINITIONS, CHANGES, QUERIES)) {
      List<String> lines = text.lines().toList();
      for (int i = 0; i < lines.size(); i += 3) {
        cases.add(new Case(lines.get(i), lines.get(i + 1).strip(), lines.get(i + 2).strip()));
      }
    }
    return cases.stream();
  }

  @BeforeAll
  static void start() {
    db = new TestEngine();
    db.run(THERE);
    objects = objects();
  }

  @AfterAll
  static void nothingHasChanged() {
    assertThat(db.rows("SELECT * FROM gate ORDER BY gate"))
        .containsExactly("[1, north]", "[2, south]");
    assertThat(db.rows("SELECT * FROM totals ORDER BY hall"))
        .containsExactly("[north, 1]", "[south, 1]");
    assertThat(objects()).isEqualTo(objects);
    db.close();
  }

  private static List<String> objects() {
    List<String> all = new ArrayList<>();
    for (String kind : List.of("CONNECTIONS", "STREAMS", "TABLES", "VIEWS")) {
      db.rows("SHOW " + kind).forEach(row -> all.add(row.split(",")[0]));
    }
    return all;
  }

  @ParameterizedTest(name = "{0}")
  @MethodSource("cases")
  void itIsSaidWhatIsWrongAndWhere(Case asked) {
    EngineException e = db.error(asked.statement);
    assertThat(e.code() + " " + e.line() + ":" + e.column() + " " + e.getMessage())
        .isEqualTo(asked.said);
    assertThat(Objects.requireNonNullElse(e.hint(), "-")).isEqualTo(asked.hint);
  }
}
