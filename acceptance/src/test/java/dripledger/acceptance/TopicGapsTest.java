package dripledger.acceptance;

import static org.assertj.core.api.Assertions.assertThat;

import java.io.IOException;
import java.sql.Connection;
import java.sql.PreparedStatement;
import java.util.List;
import java.util.Map;
import org.apache.kafka.clients.admin.Admin;
import org.apache.kafka.clients.admin.NewTopic;
import org.apache.kafka.clients.admin.RecordsToDelete;
import org.apache.kafka.common.TopicPartition;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.parallel.ResourceLock;

/** What a broker no longer has: said before anything is made without it. */
@ResourceLock(SourceTest.TWO)
class TopicGapsTest extends SourceTest {
  private String message(String statement) throws IOException {
    return service.call("POST", "/api/v1/sql", Json.write(Map.of("sql", statement))).body();
  }

  private void send(String topic, int from, int to) throws Exception {
    for (int i = from; i < to; i++) {
      hub.send(topic, "" + i, "{\"parcel\":" + i + "}");
    }
  }

  /** A view made later is refused, or said to be without what the broker has forgotten. */
  @Test
  void historyThatIsGoneIsSaid() throws Exception {
    hub.topic("gap.old", 1);
    send("gap.old", 0, 10);
    service.sql("CREATE STREAM gap_old (parcel BIGINT) FROM hub_log (topic 'gap.old') FORMAT json");
    service.sql("CREATE MATERIALIZED VIEW gap_all AS SELECT COUNT(*) AS n FROM gap_old");
    expect("SELECT n FROM gap_all", "[[10]]");
    try (Admin admin = Admin.create(Map.of("bootstrap.servers", hub.broker().servers()))) {
      admin
          .deleteRecords(Map.of(new TopicPartition("gap.old", 0), RecordsToDelete.beforeOffset(4)))
          .all()
          .get();
    }
    assertThat(message("CREATE MATERIALIZED VIEW gap_same AS SELECT COUNT(*) AS n FROM gap_old"))
        .as("nothing has to be read again for what is there")
        .doesNotContain("forgotten");
    expect("SELECT n FROM gap_same", "[[10]]");
    String later =
        "CREATE MATERIALIZED VIEW gap_later AS SELECT COUNT(DISTINCT parcel) AS n FROM gap_old";
    assertThat(error(later))
        .contains("the broker has forgotten the first 4 messages of \"gap.old\" that were read")
        .contains("ALTER STREAM gap_old SET (gaps 'skip')");
    assertThat(error("SELECT COUNT(*) FROM gap_old"))
        .contains("has forgotten the first 4 messages");
    assertThat(String.valueOf(service.sql("EXPLAIN " + later))).contains("forgotten the first 4");
    service.sql("ALTER STREAM gap_old SET (gaps 'skip')");
    assertThat(message(later))
        .contains(
            "created materialized view gap_later; the broker has forgotten the first 4 messages");
    expect("SELECT n FROM gap_later", "[[6]]");
    assertThat(String.valueOf(service.sql("SELECT n FROM gap_all"))).isEqualTo("[[10]]");
    service.sql("DROP STREAM gap_old CASCADE");
  }

  /** What a retained stream no longer has is said too. */
  @Test
  void eventsThatAreNoLongerRetainedAreSaid() throws Exception {
    hub.topic("gap.kept", 1);
    send("gap.kept", 0, 5);
    service.sql(
        "CREATE STREAM gap_kept (parcel BIGINT) FROM hub_log (topic 'gap.kept', retain '1 day')"
            + " FORMAT json");
    service.sql("CREATE MATERIALIZED VIEW gap_one AS SELECT COUNT(*) AS n FROM gap_kept");
    expect("SELECT n FROM gap_one", "[[5]]");
    forgetEvents("gap_kept");
    send("gap.kept", 5, 7);
    expect("SELECT n FROM gap_one", "[[7]]");
    assertThat(
            message(
                "CREATE MATERIALIZED VIEW gap_two AS SELECT MAX(parcel) - MIN(parcel) + 1 AS n FROM gap_kept"))
        .contains("the first 5 events of \\\"gap_kept\\\" are no longer retained");
    expect("SELECT n FROM gap_two", "[[2]]");
    service.sql("DROP STREAM gap_kept CASCADE");
  }

  /** Deletes what the ledger has of a stream, as retention does once a checkpoint holds it. */
  private void forgetEvents(String stream) throws Exception {
    try (Connection c = service.records();
        PreparedStatement s =
            c.prepareStatement(
                "DELETE FROM ledger_segment USING checkpoint, definition"
                    + " WHERE ledger_segment.sequence <= checkpoint.sequence"
                    + " AND relation_id = definition.id AND name = ?")) {
      s.setString(1, stream);
      for (int i = 0; i < 100 && s.executeUpdate() == 0; i++) {
        Thread.sleep(100);
      }
    }
  }

  /** What was retained can be read again for a column that is added later. */
  @Test
  void aColumnIsReadOutOfRetainedMessages() throws Exception {
    hub.topic("gap.wide", 1);
    for (int i = 0; i < 30; i++) {
      String grams = i % 3 == 0 ? "" : ",\"grams\":" + (i == 7 ? "\"heavy\"" : "" + 10 * i);
      hub.send("gap.wide", "k" + i, "{\"parcel\":" + i + grams + "}");
    }
    service.sql(
        "CREATE STREAM gap_wide (parcel BIGINT, came TIMESTAMP META arrived_at, k VARCHAR META key)"
            + " FROM hub_log (topic 'gap.wide', retain 'forever') FORMAT json;"
            + " CREATE MATERIALIZED VIEW gap_before AS SELECT COUNT(*) AS n FROM gap_wide");
    expect("SELECT n FROM gap_before", "[[30]]");
    String rows = "SELECT parcel, came, k FROM gap_wide WHERE parcel < 100 ORDER BY parcel";
    String before = String.valueOf(service.sql(rows));
    hub.send("gap.wide", "k100", "{\"parcel\":100,\"grams\":1,\"colour\":\"red\"}");
    expect("SELECT n FROM gap_before", "[[31]]");
    remake("gap.wide"); // what is read again does not come from there
    service.sql("ALTER STREAM gap_wide ADD COLUMN colour VARCHAR");
    service.sql("ALTER STREAM gap_wide ADD COLUMN grams INTEGER WITH REPLAY");
    service.sql(
        "CREATE MATERIALIZED VIEW gap_grams AS SELECT COUNT(*) AS n, COUNT(grams) AS g,"
            + " SUM(grams) AS s, COUNT(colour) AS c FROM gap_wide");
    // All but each third and the one that is no number; what was there stays as it was.
    expect("SELECT n, g, s, c FROM gap_grams", "[[31, 20, 2931, 0]]");
    assertThat(String.valueOf(service.sql(rows))).isEqualTo(before);
    service.kill();
    service.start();
    assertThat(String.valueOf(service.sql(rows))).isEqualTo(before);
    service.sql("ALTER STREAM gap_wide SET (gaps 'skip')");
    hub.send("gap.wide", "k101", "{\"parcel\":101,\"grams\":4,\"colour\":\"red\"}");
    expect("SELECT n, g, s, c FROM gap_grams", "[[32, 21, 2935, 1]]");
    service.sql("DROP STREAM gap_wide CASCADE");
  }

  /**
   * A topic of the same name is another topic, also when it is as long as the one that was read.
   */
  @Test
  void aTopicMadeAnewIsNotEnteredMidway() throws Exception {
    hub.topic("gap.anew", 1);
    send("gap.anew", 0, 5);
    service.sql(
        "CREATE STREAM gap_anew (parcel BIGINT) FROM hub_log (topic 'gap.anew') FORMAT json");
    service.sql(
        "CREATE MATERIALIZED VIEW gap_sum AS SELECT COUNT(*) AS n, SUM(parcel) AS s FROM gap_anew");
    expect("SELECT n, s FROM gap_sum", "[[5, 10]]");
    remake("gap.anew");
    send("gap.anew", 100, 108);
    assertThat(input("gap_anew", "made anew"))
        .contains("the topic \"gap.anew\" was deleted and made anew")
        .contains("ALTER STREAM gap_anew SET (gaps 'skip')");
    assertThat(String.valueOf(service.sql("SELECT n FROM gap_sum"))).isEqualTo("[[5]]");
    service.sql("ALTER STREAM gap_anew SET (gaps 'skip')");
    expect("SELECT n, s FROM gap_sum", "[[13, 838]]");
    // And while nobody was looking; what was read of it is held before.
    awaitCheckpoint("%/0:8@%");
    service.kill();
    remake("gap.anew");
    send("gap.anew", 200, 220);
    service.start();
    expect("SELECT n, s FROM gap_sum", "[[33, 5028]]");
    assertThat(message("CREATE MATERIALIZED VIEW gap_new AS SELECT COUNT(*) AS n FROM gap_anew"))
        .contains("was deleted and made anew, and what it held before is gone");
    expect("SELECT n FROM gap_new", "[[20]]");
    service.sql("DROP STREAM gap_anew CASCADE");
  }

  private void awaitCheckpoint(String position) throws Exception {
    try (Connection c = service.records();
        PreparedStatement s =
            c.prepareStatement("SELECT 1 FROM checkpoint_input WHERE position LIKE ?")) {
      s.setString(1, position);
      for (int i = 0; i < 100 && !s.executeQuery().next(); i++) {
        Thread.sleep(100);
      }
    }
  }

  private void remake(String topic) throws Exception {
    try (Admin admin = Admin.create(Map.of("bootstrap.servers", hub.broker().servers()))) {
      admin.deleteTopics(List.of(topic)).all().get();
      for (int i = 0; i < 100 && admin.listTopics().names().get().contains(topic); i++) {
        Thread.sleep(50);
      }
      admin.createTopics(List.of(new NewTopic(topic, 1, (short) 1))).all().get();
    }
  }
}
