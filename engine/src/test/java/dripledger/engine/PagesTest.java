package dripledger.engine;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.error.EngineException;
import dripledger.engine.query.Endpoints;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import java.util.Random;
import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.params.ParameterizedTest;
import org.junit.jupiter.params.provider.ValueSource;

/** Endpoints that answer page by page: together they are the whole answer, in its order. */
class PagesTest {
  private static TestEngine db;
  private static int made;

  @BeforeAll
  static void start() {
    db = new TestEngine();
    db.run(
        """
        CREATE TABLE parcel (parcel INTEGER PRIMARY KEY, gate VARCHAR, grams BIGINT, at TIMESTAMP NOT NULL,
          ratio DOUBLE, paid DECIMAL(8, 2), urgent BOOLEAN, due DATE);
        CREATE MATERIALIZED VIEW totals AS SELECT gate, grams, COUNT(*) AS n FROM parcel GROUP BY gate, grams;
        CREATE MATERIALIZED VIEW plain AS SELECT gate, urgent FROM parcel;
        """);
    Random random = new Random(3);
    for (int i = 0; i < 90; i++) {
      db.run(row(random, i));
    }
  }

  private static String row(Random random, int parcel) {
    return ("INSERT INTO parcel VALUES (%d, %s, %s, TIMESTAMP '2026-03-0%d 06:00:00.%06d', %s, %s, %s,"
            + " %s)")
        .formatted(
            parcel,
            some(random, "'G " + random.nextInt(4) + (random.nextBoolean() ? ":\u00e9" : "") + "'"),
            some(random, "" + random.nextInt(5)),
            1 + random.nextInt(3),
            random.nextInt(3),
            some(random, random.nextInt(4) + ".25"),
            some(random, random.nextInt(3) + ".50"),
            some(random, random.nextBoolean() ? "TRUE" : "FALSE"),
            some(random, "DATE '2026-03-0" + (1 + random.nextInt(4)) + "'"));
  }

  private static String some(Random random, String value) {
    return random.nextInt(6) == 0 ? "NULL" : value;
  }

  @AfterAll
  static void stop() {
    db.close();
  }

  private static CatalogObject.Endpoint endpoint(String options, String query) {
    String name = "e" + made++;
    db.run("CREATE ENDPOINT " + name + " OPTIONS (" + options + ") AS " + query);
    return db.engine.endpoints().endpoint(name, db.engine.access().owner());
  }

  private static Endpoints.Called page(CatalogObject.Endpoint endpoint, String after) {
    Map<String, String> given = new HashMap<>();
    if (after != null) {
      given.put("after", after);
    }
    return db.engine.endpoints().call(endpoint, given, db.engine.access().owner());
  }

  private static List<String> all(CatalogObject.Endpoint endpoint, int pageRows) {
    List<String> all = new ArrayList<>();
    String after = null;
    do {
      Endpoints.Called called = page(endpoint, after);
      after = called.next();
      called.rows().rows().forEach(row -> all.add(Arrays.toString(row)));
      assertThat(called.rows().rows().size())
          .isEqualTo(
              after == null
                  ? all.size() % pageRows == 0 && !all.isEmpty() ? pageRows : all.size() % pageRows
                  : pageRows);
    } while (after != null);
    return all;
  }

  @ParameterizedTest
  @ValueSource(
      strings = {
        "SELECT * FROM parcel ORDER BY parcel",
        "SELECT * FROM parcel ORDER BY parcel DESC",
        "SELECT parcel, gate FROM parcel ORDER BY gate, parcel",
        "SELECT parcel, gate FROM parcel ORDER BY gate NULLS FIRST, parcel DESC",
        "SELECT parcel FROM parcel ORDER BY gate DESC NULLS LAST, grams, parcel",
        "SELECT parcel FROM parcel WHERE grams > 1 ORDER BY ratio DESC, paid NULLS FIRST, urgent, parcel",
        "SELECT parcel, grams * 2 AS twice FROM parcel ORDER BY twice DESC, due, parcel",
        "SELECT parcel FROM parcel ORDER BY at, parcel",
        "SELECT gate, grams, n FROM totals ORDER BY gate, grams",
        "SELECT gate, SUM(n) AS n FROM totals GROUP BY gate ORDER BY n DESC, gate",
        "SELECT p.parcel, t.n FROM parcel p JOIN totals t ON t.gate = p.gate AND t.grams = p.grams ORDER BY t.n, p.parcel",
        "SELECT gate, urgent FROM plain ORDER BY gate, urgent",
        "SELECT urgent FROM plain ORDER BY urgent DESC",
        "SELECT parcel FROM (SELECT parcel, grams FROM parcel ORDER BY grams, parcel LIMIT 20) x ORDER BY parcel",
        "SELECT parcel FROM parcel WHERE parcel < 0 ORDER BY parcel"
      })
  void thePagesAreTheWhole(String query) {
    List<String> whole = db.rows(query);
    for (int rows : new int[] {1, 2, 7, 45, 90, 1000}) {
      assertThat(all(endpoint("page_rows " + rows, query), rows))
          .as("%d rows a page", rows)
          .isEqualTo(whole);
    }
  }

  /** Without an order, or with one that leaves it open: each row once. */
  @ParameterizedTest
  @ValueSource(
      strings = {
        "SELECT * FROM parcel",
        "SELECT gate FROM plain",
        "SELECT parcel, gate FROM parcel ORDER BY gate DESC",
        "SELECT grams FROM parcel ORDER BY grams NULLS FIRST",
        "SELECT gate, n FROM totals WHERE n > 1"
      })
  void eachRowIsOnOnePage(String query) {
    assertThat(all(endpoint("page_rows 4", query), 4))
        .containsExactlyInAnyOrderElementsOf(db.rows(query));
  }

  /** What is there all the time is seen once, whatever comes and goes before it. */
  @Test
  void rowsThatComeAndGoMoveNoOthers() {
    db.run("CREATE TABLE moving (n INTEGER PRIMARY KEY, m INTEGER)");
    for (int i = 0; i < 200; i += 2) {
      db.run("INSERT INTO moving VALUES (" + i + ", " + i % 6 + ")");
    }
    Random random = new Random(8);
    for (String order : List.of("n", "n DESC", "m, n", "m DESC")) {
      CatalogObject.Endpoint endpoint =
          endpoint("page_rows 9", "SELECT n, m FROM moving ORDER BY " + order);
      List<Integer> seen = new ArrayList<>();
      String after = null;
      do {
        Endpoints.Called called = page(endpoint, after);
        called.rows().rows().forEach(row -> seen.add(((Number) row[0]).intValue()));
        after = called.next();
        int odd = random.nextInt(100) * 2 + 1;
        db.run("DELETE FROM moving WHERE n = " + odd);
        db.run("DELETE FROM moving WHERE n = " + (odd + 2) % 200);
        db.run("INSERT INTO moving VALUES (" + odd + ", " + odd % 6 + ")");
      } while (after != null);
      assertThat(seen.stream().filter(n -> n % 2 == 0))
          .as(order)
          .hasSize(100)
          .doesNotHaveDuplicates();
    }
  }

  /** By the key no more is read than is answered, however far along. */
  @Test
  void aPageByTheKeyReadsOnlyItsRows() {
    StringBuilder rows = new StringBuilder("INSERT INTO many VALUES (0)");
    for (int i = 1; i < 3000; i++) {
      rows.append(", (").append(i).append(')');
    }
    db.run("CREATE TABLE many (n INTEGER PRIMARY KEY); " + rows);
    CatalogObject.Endpoint endpoint =
        endpoint("page_rows 100", "SELECT n FROM many ORDER BY n DESC");
    page(endpoint, null); // whose order is made when it is asked for again
    String after = page(endpoint, null).next();
    for (int pages = 1; after != null; pages++) {
      Endpoints.Called called = page(endpoint, after);
      assertThat(called.read()).as("page %d", pages).isLessThan(400);
      after = called.next();
    }
  }

  @Test
  void whatIsNoMarkIsRefused() {
    CatalogObject.Endpoint endpoint =
        endpoint("page_rows 2", "SELECT parcel, gate FROM parcel ORDER BY gate, parcel");
    String good = page(endpoint, null).next();
    CatalogObject.Endpoint other =
        endpoint("page_rows 2", "SELECT at FROM parcel ORDER BY at DESC");
    for (String bad :
        List.of(
            "",
            "x",
            "MA",
            "!!",
            good + "AA",
            good.substring(2),
            "9".repeat(30_000),
            page(other, null).next())) {
      assertThatThrownBy(() -> page(endpoint, bad))
          .isInstanceOf(EngineException.class)
          .hasMessage("parameter \"after\" is not what an answer of this endpoint gave as next");
    }
    CatalogObject.Endpoint whole = endpoint("max_rows 100", "SELECT parcel FROM parcel");
    assertThatThrownBy(() -> page(whole, good)).hasMessageContaining("has no parameter \"after\"");
  }

  @Test
  void whatCannotBePagedIsSaid() {
    for (String wrong :
        List.of(
            "() OPTIONS (page_rows 3) AS SELECT parcel FROM parcel LIMIT 3: no LIMIT or OFFSET of its own",
            "(n INTEGER DEFAULT 1) OPTIONS (page_rows 3) AS SELECT parcel FROM parcel LIMIT :n: no LIMIT or OFFSET",
            "(after INTEGER DEFAULT 1) OPTIONS (page_rows 3) AS SELECT parcel FROM parcel WHERE parcel > :after: says where a page begins",
            "() OPTIONS (page_rows 30, max_rows 3) AS SELECT parcel FROM parcel: more than max_rows 3",
            "() OPTIONS (page_rows 0) AS SELECT parcel FROM parcel: is a number from 1")) {
      String said = wrong.substring(wrong.lastIndexOf(": ") + 2);
      EngineException e =
          db.error(
              "CREATE ENDPOINT wrong "
                  + wrong.substring(0, wrong.lastIndexOf(": ")).replace("() ", ""));
      assertThat(e.getMessage()).contains(said);
    }
  }
}
