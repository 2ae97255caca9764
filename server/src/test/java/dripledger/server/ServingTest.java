package dripledger.server;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.ByteArrayInputStream;
import java.net.URI;
import java.net.http.HttpRequest;
import java.net.http.HttpResponse;
import java.util.regex.Matcher;
import java.util.regex.Pattern;
import org.apache.arrow.memory.RootAllocator;
import org.apache.arrow.vector.ipc.ArrowStreamReader;
import org.junit.jupiter.api.Test;

/** What is answered beside rows: tags, what was read, figures, health. */
class ServingTest extends AccessService {
  private static HttpResponse<byte[]> get(String who, String path, String... headers)
      throws Exception {
    HttpRequest.Builder request =
        HttpRequest.newBuilder(URI.create(base() + path))
            .header("Authorization", "Bearer " + TOKENS.get(who));
    if (headers.length > 0) {
      request.headers(headers);
    }
    return HTTP.send(request.build(), HttpResponse.BodyHandlers.ofByteArray());
  }

  private static String text(HttpResponse<byte[]> answer) {
    return new String(answer.body(), java.nio.charset.StandardCharsets.UTF_8);
  }

  private static String tag(HttpResponse<byte[]> answer) {
    return answer.headers().firstValue("ETag").orElseThrow();
  }

  @Test
  void anAnswerKeepsItsTagUntilWhatIsReadChanges() throws Exception {
    sql("owner", "CREATE TABLE tagged (gate VARCHAR PRIMARY KEY, n INTEGER)");
    sql("owner", "CREATE TABLE other (gate VARCHAR PRIMARY KEY)");
    sql("owner", "INSERT INTO tagged VALUES ('G01', 1), ('G02', 2)");
    sql("owner", "CREATE VIEW halfway AS SELECT gate, n FROM tagged WHERE n > 0");
    sql(
        "owner",
        "CREATE ENDPOINT tagged_of (n INTEGER DEFAULT 1) AS SELECT gate FROM halfway WHERE n = :n");
    String path = "/api/v1/endpoints/tagged_of";
    HttpResponse<byte[]> first = get("owner", path);
    assertThat(text(first)).contains("\"rows_read\":").contains("G01");
    String tag = tag(first);
    sql("owner", "INSERT INTO other VALUES ('x')"); // an epoch that changes something else
    String calls = "SELECT SUM(calls) FROM drip.endpoints WHERE name = 'tagged_of'";
    String before = sql("owner", calls).body().replaceAll("\"epoch.*", "");
    HttpResponse<byte[]> same = get("owner", path, "If-None-Match", tag);
    assertThat(same.statusCode()).isEqualTo(304);
    assertThat(same.body()).isEmpty();
    assertThat(sql("owner", calls).body()).as("it was not even asked").startsWith(before);
    assertThat(tag(get("owner", path + "?n=2"))).isNotEqualTo(tag);
    assertThat(tag(get("owner", path + ".csv"))).isNotEqualTo(tag);
    sql("owner", "UPDATE tagged SET n = 1 WHERE gate = 'G02'");
    HttpResponse<byte[]> changed = get("owner", path, "If-None-Match", tag);
    assertThat(changed.statusCode()).isEqualTo(200);
    assertThat(text(changed)).contains("G02");
    // One that asks the time is asked, and told by its rows.
    sql(
        "owner",
        "CREATE ENDPOINT timed AS SELECT gate FROM tagged WHERE CURRENT_TIMESTAMP > TIMESTAMP '2026-01-01 00:00:00'");
    String timed = tag(get("owner", "/api/v1/endpoints/timed"));
    assertThat(get("owner", "/api/v1/endpoints/timed", "If-None-Match", timed).statusCode())
        .isEqualTo(304);
    // Nobody learns by a tag what is not for it.
    assertThat(get("dispatch", path, "If-None-Match", tag(changed)).statusCode()).isEqualTo(403);
  }

  @Test
  void aCallThatReadsTooMuchIsEnded() throws Exception {
    sql("owner", "CREATE TABLE lots (n INTEGER PRIMARY KEY, m INTEGER)");
    sql("owner", "INSERT INTO lots SELECT n, n FROM generate_series(1, 20000) AS s (n)");
    sql(
        "owner",
        "CREATE ENDPOINT few (k INTEGER DEFAULT 5) OPTIONS (max_read 100) AS SELECT m FROM lots WHERE n = :k");
    sql(
        "owner",
        "CREATE ENDPOINT much OPTIONS (max_read 100) AS SELECT COUNT(*) AS c FROM lots WHERE m % 7 = 1");
    HttpResponse<byte[]> few = get("owner", "/api/v1/endpoints/few");
    assertThat(few.statusCode()).isEqualTo(200);
    assertThat(few.headers().firstValue("Drip-Rows-Read")).hasValue("1");
    HttpResponse<byte[]> much = get("owner", "/api/v1/endpoints/much");
    assertThat(much.statusCode()).isEqualTo(413);
    assertThat(text(much)).contains("more than 100 rows were read");
    assertThat(
            sql("owner", "SELECT role, calls, errors FROM drip.endpoints WHERE name = 'much'")
                .body())
        .contains("[\"owner\",1,1]");
  }

  @Test
  void pagesAreFollowedByTheirLinks() throws Exception {
    sql("owner", "CREATE TABLE queue (n INTEGER PRIMARY KEY, hall VARCHAR)");
    sql("owner", "INSERT INTO queue SELECT n, 'M' || n % 3 FROM generate_series(1, 25) AS s (n)");
    sql(
        "owner",
        "CREATE ENDPOINT queued (hall VARCHAR OPTIONAL) OPTIONS (page_rows 10) AS"
            + " SELECT n, hall FROM queue WHERE hall = :hall ORDER BY hall DESC, n");
    StringBuilder all = new StringBuilder();
    String next = "/api/v1/endpoints/queued.csv";
    for (int pages = 0; next != null; pages++) {
      HttpResponse<byte[]> page = get("owner", next);
      assertThat(page.statusCode()).as(next).isEqualTo(200);
      all.append(text(page).replaceFirst("n,hall\\R", ""));
      Matcher link =
          Pattern.compile("<(.*)>; rel=\"next\"")
              .matcher(page.headers().firstValue("Link").orElse(""));
      next = link.matches() ? link.group(1) : null;
      assertThat(pages).isLessThan(3);
    }
    assertThat(all.toString().lines().map(l -> l.replaceAll(",.*", "")))
        .containsExactly(
            ("2 5 8 11 14 17 20 23 1 4 7 10 13 16 19 22 25 3 6 9 12 15 18 21 24").split(" "));
    HttpResponse<byte[]> some = get("owner", "/api/v1/endpoints/queued?hall=M1");
    assertThat(text(some)).contains("\"count\":9").doesNotContain("\"next\"");
    assertThat(text(get("owner", "/api/v1/endpoints/queued"))).contains("\"next\":\"");
    HttpResponse<byte[]> wrong = get("owner", "/api/v1/endpoints/queued?after=behind");
    assertThat(wrong.statusCode()).isEqualTo(400);
    assertThat(text(wrong)).contains("gave as next").contains("begin with the first page");
    assertThat(text(get("owner", "/api/v1/openapi.json"))).contains("next of the page before");
    // The last page is another answer once it is not the last.
    String last = "/api/v1/endpoints/queued?hall=M1";
    String tag = tag(get("owner", last));
    sql("owner", "INSERT INTO queue VALUES (28, 'M1'), (31, 'M1')");
    HttpResponse<byte[]> longer = get("owner", last, "If-None-Match", tag);
    assertThat(longer.statusCode()).isEqualTo(200);
    assertThat(text(longer)).contains("\"next\":\"");
  }

  @Test
  void aViewIsReadAsArrow() throws Exception {
    byte[] bytes = get("dispatch", "/api/v1/views/hall.arrow").body();
    try (RootAllocator allocator = new RootAllocator();
        ArrowStreamReader reader =
            new ArrowStreamReader(new ByteArrayInputStream(bytes), allocator)) {
      assertThat(reader.loadNextBatch()).isTrue();
      assertThat(reader.getVectorSchemaRoot().contentToTSVString())
          .isEqualTo("hall\tgates\nNorth\t1\n");
    }
    assertThat(
            get(
                    "dispatch",
                    "/api/v1/endpoints/in_hall",
                    "Accept",
                    "application/vnd.apache.arrow.stream")
                .headers()
                .firstValue("Content-Type"))
        .hasValue("application/vnd.apache.arrow.stream");
  }

  @Test
  void figuresAreOfEachViewEndpointAndRole() throws Exception {
    get("dispatch", "/api/v1/endpoints/in_hall");
    String[] wanted = {
      "drip_view_rows{view=\"hall\"} 1.0",
      "drip_view_up{view=\"hall\"} 1.0",
      "drip_endpoint_calls{endpoint=\"in_hall\"}",
      "drip_role_requests{role=\"dispatch\"}",
      "drip_figures_left_out 0.0"
    };
    for (String each : wanted) {
      while (!text(get("owner", "/actuator/prometheus")).contains(each)) {
        Thread.onSpinWait(); // they are renewed every few seconds
      }
    }
  }

  @Test
  void aliveIsNotTheSameAsWell() throws Exception {
    for (String probe : new String[] {"liveness", "readiness"}) {
      HttpResponse<byte[]> answer = get("nothing", "/actuator/health/" + probe);
      assertThat(answer.statusCode()).isEqualTo(200);
      assertThat(text(answer)).doesNotContain("epoch"); // what is inside is not for everybody
    }
    assertThat(text(get("owner", "/actuator/health"))).contains("\"status\":\"UP\"");
    assertThat(text(get("owner", "/api/v1/findings")))
        .startsWith("{\"findings\":[")
        .doesNotContain("\"severe\":true");
  }
}
