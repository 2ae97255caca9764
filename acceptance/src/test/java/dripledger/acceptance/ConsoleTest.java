package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import org.junit.jupiter.api.AfterAll;
import org.junit.jupiter.api.BeforeAll;
import org.junit.jupiter.api.Test;
import org.openqa.selenium.Keys;

/** The console, driven in headless Chromium against the real service. */
class ConsoleTest {
  private static LiveService service;
  private static Browser browser;

  @BeforeAll
  static void start() throws Exception {
    service = new LiveService();
    service.drip(
        """
        CREATE TABLE gate (gate VARCHAR PRIMARY KEY, hall VARCHAR, capacity_per_minute INTEGER);
        CREATE MATERIALIZED VIEW hall_capacity AS
          SELECT hall, SUM(capacity_per_minute) AS capacity FROM gate GROUP BY hall;
        CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR, at TIMESTAMP, EVENT TIME at);
        CREATE MATERIALIZED VIEW gate_load AS
          SELECT gate, date_trunc('minute', at) AS minute, COUNT(*) AS scans
          FROM scan GROUP BY gate, date_trunc('minute', at);
        INSERT INTO gate VALUES ('G01', 'North', 40), ('G02', 'South', 60);
        CREATE ENDPOINT in_hall (hall VARCHAR COMMENT 'which', n INTEGER DEFAULT 5 CHECK (n > 0))
          AS SELECT gate, capacity_per_minute FROM gate WHERE hall = :hall LIMIT :n;
        """,
        "sql",
        "-");
    service.drip(
        """
        {"parcel":1,"gate":"G01","at":"2026-03-02T06:00:00Z"}
        {"parcel":2,"gate":"G01","at":"2026-03-02T06:01:00Z"}
        """,
        "push",
        "--wait",
        "scan",
        "-");
    browser = new Browser();
    browser.open(service.url());
  }

  @AfterAll
  static void stop() throws Exception {
    browser.close();
    service.close();
  }

  @Test
  void theStatementUnderTheCursorIsRun() {
    browser.write("SELECT 1 AS first_one;\n\nSELECT gate, hall FROM gate ORDER BY gate");
    browser.run();
    assertThat(browser.awaitText("[data-test=result]", "G02"))
        .contains("North")
        .doesNotContain("first_one");
    browser.type(Keys.chord(Keys.CONTROL, Keys.HOME));
    browser.run();
    browser.awaitText("[data-test=result]", "first_one");
    assertThat(browser.text("[data-test=rows]")).isEqualTo("1");
  }

  @Test
  void anErrorIsUnderlinedAtItsPlace() {
    browser.write("SELECT gate,\n  hal\nFROM gate");
    browser.run();
    assertThat(browser.awaitText("[data-test=strip]", "line 2, column 3"))
        .contains("no column \"hal\"")
        .contains("did you mean \"hall\"?");
    browser.element(".cm-lintRange-error");
    assertThat(browser.text(".cm-lintRange-error")).isEqualTo("hal");
  }

  @Test
  void aFollowedAnswerChangesBeforeTheEyes() throws Exception {
    browser.write("FOLLOW SELECT hall, capacity FROM hall_capacity;");
    browser.run();
    browser.awaitText("[data-test=strip]", "following");
    browser.awaitText("[data-test=result]", "South");
    service.drip("", "sql", "UPDATE gate SET capacity_per_minute = 777 WHERE gate = 'G02'");
    browser.element("[data-test=result] tr.changed td.wet");
    browser.awaitText("[data-test=result]", "777");
    service.drip("", "sql", "INSERT INTO gate VALUES ('G03', 'Middle', 5)");
    browser.element("[data-test=result] tr.came");
    service.drip("", "sql", "DELETE FROM gate WHERE gate = 'G03'");
    browser.element("[data-test=result] tr.went");
    browser.wait(
        "the row never left",
        () -> browser.text("[data-test=result]").contains("Middle") ? null : true);
    browser.click("[data-test=stop]");
    assertThat(browser.text("[data-test=strip]")).doesNotContain("following");
  }

  @Test
  void aTimeSeriesIsDrawn() {
    browser.write("SELECT gate, minute, scans FROM gate_load");
    browser.run();
    browser.awaitText("[data-test=result]", "2026-03-02 06:01:00");
    browser.click("[data-test=form] button:last-child");
    browser.element("[data-test=chart] canvas");
    browser.click("[data-test=form] button:first-child");
    browser.element("[data-test=result]");
  }

  @Test
  void theSideListShowsWhatExists() throws Exception {
    browser.awaitText("[data-test=object-scan]", "2");
    browser.click("[data-test=object-gate] .name");
    assertThat(browser.awaitText("[data-test=object-gate]", "capacity_per_minute"))
        .contains("integer");
    service.drip("", "sql", "CREATE VIEW north AS SELECT * FROM gate WHERE hall = 'North'");
    browser.element("[data-test=object-north]");
    service.drip("", "sql", "DROP VIEW north");
    browser.wait(
        "the view stayed", () -> browser.count("[data-test=object-north]") == 0 ? true : null);
    browser.click("[data-test=object-hall_capacity] .ask");
    browser.awaitText("[data-test=strip]", "following");
    browser.click("[data-test=stop]");
  }

  @Test
  void namesAreCompleted() {
    browser.write("SELECT capa");
    browser.type(Keys.chord(Keys.CONTROL, " "));
    assertThat(browser.awaitText(".cm-tooltip-autocomplete", "capacity_per_minute"))
        .contains("integer");
    browser.type(Keys.ESCAPE);
  }

  @Test
  void thePageMakesNoMistakes() {
    // A refused statement is answered by an error status, which the browser notes as such.
    assertThat(browser.errors().lines().filter(l -> !l.contains("/api/v1/"))).isEmpty();
  }

  @Test
  void aConnectionIsMadeLookedAtAndDeclared() throws Exception {
    java.nio.file.Path folder = java.nio.file.Files.createTempDirectory("drip-spool");
    java.nio.file.Files.writeString(
        folder.resolve("day.csv"), "parcel,grams\n1,5\n2,heavy\n".repeat(1));
    browser.click("[data-test=connect]");
    browser.click("[data-test=connect-form] .p-selectbutton button:nth-child(3)");
    browser.element("[data-test=connect-name]").sendKeys("spool");
    browser.element("[data-test=connect-path]").sendKeys("/tmp/drip-nowhere");
    browser.click("[data-test=connect-make]");
    browser.awaitText("[data-test=connect-problem]", "there is no folder /tmp/drip-nowhere");
    browser.element("[data-test=connect-path]").clear();
    browser.element("[data-test=connect-path]").sendKeys(folder.toString());
    browser.click("[data-test=connect-make]");
    browser.click("[data-test='source-day.csv']");
    browser.awaitText("[data-test=messages]", "2,heavy");
    browser.click("[data-test=browser-view] button:last-child");
    browser.click(".detail .p-select");
    browser.click(".p-select-option:nth-child(2)");
    browser.click("[data-test=propose]");
    browser.awaitText(".columns", "grams");
    browser.click("[data-test=keep]");
    browser.awaitText("[data-test=browser-message]", "created stream day");
    browser.click("[data-test=browser-close]");
    browser.write("SELECT COUNT(*) AS lines FROM day");
    browser.run();
    browser.awaitText("[data-test=result]", "2");
  }

  @Test
  void anEndpointIsTried() {
    browser.click("[data-test=object-in_hall] .ask");
    browser.click("[data-test=parameter-n]");
    browser.type("0");
    browser.click("[data-test=parameter-hall]");
    browser.type("South", Keys.ENTER);
    browser.awaitText("[data-test=endpoint-strip]", "must be such that n > 0");
    browser.click("[data-test=parameter-n]");
    browser.type(Keys.BACK_SPACE, "2", Keys.ENTER);
    browser.awaitText("[data-test=endpoint] [data-test=result]", "G02");
    assertThat(browser.text("[data-test=endpoint-strip]")).contains("1 row").contains("read");
    assertThat(browser.text("[data-test=address]"))
        .endsWith("/api/v1/endpoints/in_hall?n=2&hall=South");
    browser.click("[data-test=close-endpoint]");
    browser.element("[data-test=editor] .cm-content");
  }

  @Test
  void onceThereAreRolesOneSignsIn() throws Exception {
    service.sql("CREATE ROLE dispatch; GRANT SELECT ON gate_load TO dispatch");
    try {
      browser.element("[data-test=sign-in]"); // the page notices
      service.as(service.ownerToken());
      String token = service.drip("", "token", "make", "dispatch", "console").out().strip();
      browser.click("[data-test=sign-in] input");
      browser.type("drip_nonsense", Keys.ENTER);
      browser.awaitText("[data-test=sign-in-problem]", "not known");
      browser.type(Keys.chord(Keys.CONTROL, "a"), token, Keys.ENTER);
      browser.awaitText("[data-test=who]", "dispatch");
      browser.element("[data-test=object-gate_load]");
      assertThat(browser.count("[data-test=object-gate]")).isZero();
      assertThat(browser.count("[data-test=connect]")).isZero();
      browser.write("SELECT * FROM gate");
      browser.run();
      browser.awaitText("[data-test=problem]", "that role dispatch may read");
      browser.write("FOLLOW SELECT gate, scans FROM gate_load");
      browser.run();
      browser.awaitText("[data-test=strip]", "following");
      browser.click("[data-test=sign-out]");
      browser.element("[data-test=sign-in]");
      assertThat(browser.text("body")).doesNotContain("gate_load");
    } finally {
      service.as(service.ownerToken());
      service.sql("DROP ROLE dispatch");
      service.as(null);
      browser.open(service.url());
    }
    browser.awaitText("[data-test=who]", "whoever is on this machine");
    browser.errors(); // what was refused is there, and was meant to be
  }
}
