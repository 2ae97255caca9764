package dripledger.acceptance;

import java.io.File;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.time.Duration;
import java.util.Comparator;
import java.util.Map;
import java.util.function.Supplier;
import java.util.stream.Stream;
import org.openqa.selenium.By;
import org.openqa.selenium.Keys;
import org.openqa.selenium.OutputType;
import org.openqa.selenium.WebElement;
import org.openqa.selenium.chrome.ChromeDriver;
import org.openqa.selenium.chrome.ChromeDriverService;
import org.openqa.selenium.chrome.ChromeOptions;
import org.openqa.selenium.support.ui.WebDriverWait;

/** Headless Chromium at 1280x800, with the few gestures the console needs. */
final class Browser implements AutoCloseable {
  private final Path profile = Files.createTempDirectory("drip-chromium");
  private final ChromeDriver driver;

  Browser() throws IOException {
    ChromeOptions options = new ChromeOptions();
    options.setBinary("/usr/bin/chromium");
    options.addArguments(
        "--headless",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--disable-dev-shm-usage",
        "--window-size=1280,800",
        "--force-device-scale-factor=1",
        "--hide-scrollbars",
        "--user-data-dir=" + profile);
    driver =
        new ChromeDriver(
            new ChromeDriverService.Builder()
                .usingDriverExecutable(new File("/usr/bin/chromedriver"))
                .usingAnyFreePort()
                .build(),
            options);
    driver.executeCdpCommand(
        "Emulation.setDeviceMetricsOverride",
        Map.of("width", 1280, "height", 800, "deviceScaleFactor", 1, "mobile", false));
  }

  void open(String url) {
    driver.get(url);
    element("[data-test=editor] .cm-content");
  }

  /** The first element of a CSS selector, waited for. */
  WebElement element(String selector) {
    return wait(
        "no " + selector,
        () -> driver.findElements(By.cssSelector(selector)).stream().findFirst().orElse(null));
  }

  int count(String selector) {
    return driver.findElements(By.cssSelector(selector)).size();
  }

  String text(String selector) {
    return String.valueOf(
        driver.executeScript(
            "const e = document.querySelector(arguments[0]); return e ? e.innerText : ''",
            selector));
  }

  /** Waits until the text of an element contains something; answers the text. */
  String awaitText(String selector, String part) {
    return wait(
        () -> selector + " never said " + part + " but: " + text(selector),
        () -> text(selector).contains(part) ? text(selector) : null);
  }

  <T> T wait(String complaint, Supplier<T> condition) {
    return wait(() -> complaint, condition);
  }

  private <T> T wait(Supplier<String> complaint, Supplier<T> condition) {
    return new WebDriverWait(driver, Duration.ofSeconds(20), Duration.ofMillis(100))
        .withMessage(complaint)
        .until(d -> condition.get());
  }

  void click(String selector) {
    element(selector).click();
  }

  /** Scrolls inside of an element. */
  void scroll(String selector, int pixels) {
    driver.executeScript("arguments[0].scrollTop = arguments[1]", element(selector), pixels);
  }

  /** Replaces the script by another and leaves the cursor at its end. */
  void write(String script) {
    WebElement content = element("[data-test=editor] .cm-content");
    content.click();
    content.sendKeys(Keys.chord(Keys.CONTROL, "a"), Keys.DELETE);
    // Pasted rather than typed, so that no bracket is closed and no completion taken.
    driver.executeScript(
        "const t = new DataTransfer(); t.setData('text/plain', arguments[1]);"
            + "arguments[0].dispatchEvent(new ClipboardEvent('paste',"
            + " {clipboardData: t, bubbles: true, cancelable: true}))",
        content,
        script);
  }

  void type(CharSequence... keys) {
    driver.switchTo().activeElement().sendKeys(keys);
  }

  void run() {
    element("[data-test=editor] .cm-content").sendKeys(Keys.chord(Keys.CONTROL, Keys.ENTER));
  }

  void picture(Path file) throws IOException {
    Files.write(file, driver.getScreenshotAs(OutputType.BYTES));
  }

  /** Errors the page wrote to its console. */
  String errors() {
    StringBuilder errors = new StringBuilder();
    driver
        .manage()
        .logs()
        .get("browser")
        .forEach(
            entry -> {
              if (entry.getLevel().intValue() >= java.util.logging.Level.SEVERE.intValue()) {
                errors.append(entry.getMessage()).append('\n');
              }
            });
    return errors.toString();
  }

  @Override
  public void close() throws IOException {
    driver.quit();
    try (Stream<Path> files = Files.walk(profile)) {
      for (Path file : files.sorted(Comparator.reverseOrder()).toList()) {
        Files.deleteIfExists(file);
      }
    }
  }
}
