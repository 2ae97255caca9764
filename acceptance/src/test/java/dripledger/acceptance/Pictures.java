package dripledger.acceptance;

import java.io.IOException;
import java.nio.file.Path;

/**
 * Takes the console's pictures for the documentation from a running demo: arguments are the
 * service's URL and the folder.
 */
final class Pictures {
  private Pictures() {}

  public static void main(String[] args) throws IOException, InterruptedException {
    Path folder = Path.of(args[1]);
    try (Browser browser = new Browser()) {
      browser.open(args[0]);
      browser.awaitText("[data-test=epoch]", "epoch");
      browser.click("[data-test=object-gate_load] .name");
      Thread.sleep(500);
      browser.click("[data-test=run]");
      browser.element("[data-test=result] tbody tr");
      Thread.sleep(800);
      browser.picture(folder.resolve("console-table.png"));
      browser.click("[data-test=object-gate_load] .name");
      browser.click("[data-test=object-charge] .name");
      browser.click("[data-test=object-gate_alert] .name");
      browser.element("[data-test=object-missed_van_post] .name");
      browser.scroll("nav.side", 5000);
      Thread.sleep(500);
      browser.picture(folder.resolve("console-sinks.png"));
      browser.scroll("nav.side", 0);
      browser.click("[data-test=connection-hub_log] .name");
      browser.click("[data-test='source-hub.scan']");
      browser.awaitText("[data-test=messages]", "scanner");
      Thread.sleep(500);
      browser.picture(folder.resolve("console-messages.png"));
      browser.click("[data-test=browser-view] button:last-child");
      browser.click("[data-test=propose]");
      browser.element("[data-test=declare-sql]");
      Thread.sleep(500);
      browser.picture(folder.resolve("console-declare.png"));
      browser.click("[data-test=browser-close]");
      browser.click("[data-test=object-busiest_areas] .ask");
      browser.click("[data-test=parameter-service]");
      browser.type("bulky", org.openqa.selenium.Keys.ENTER);
      browser.element("[data-test=endpoint] [data-test=result] tbody tr");
      Thread.sleep(500);
      browser.picture(folder.resolve("console-endpoint.png"));
      browser.click("[data-test=close-endpoint]");
      browser.write(
          "FOLLOW SELECT hall, window_minute, scans, busiest_gate_scans\nFROM hall_load;\n");
      browser.run();
      browser.awaitText("[data-test=strip]", "following");
      browser.click("[data-test=result] th:nth-child(3) button");
      browser.click("[data-test=result] th:nth-child(3) button");
      browser.element("[data-test=result] tr.changed");
      browser.picture(folder.resolve("console-follow.png"));
      browser.click("[data-test=form] button:last-child");
      browser.element("[data-test=chart] canvas");
      Thread.sleep(1200);
      browser.picture(folder.resolve("console-chart.png"));
      browser.click("[data-test=night]");
      browser.write(
          "SELECT gate, window_minute, scans\nFROM gate_load\nWHERE gatee = 'G07'\nLIMIT 20;\n");
      browser.run();
      browser.element("[data-test=problem]");
      Thread.sleep(600);
      browser.picture(folder.resolve("console-error-night.png"));
      System.out.println(browser.errors());
    }
  }
}
