package dripledger.bench;

import dripledger.connectors.OutsideSystems;
import dripledger.connectors.Reach;
import dripledger.connectors.format.DriftStore;
import dripledger.connectors.format.MessageParser;
import dripledger.demo.KafkaBroker;
import dripledger.demo.PostgresCluster;
import dripledger.engine.Engine;
import dripledger.engine.EngineOptions;
import dripledger.engine.MemoryLedger;
import dripledger.engine.Records;
import dripledger.server.records.Fence;
import dripledger.server.records.Journal;
import dripledger.server.records.PostgresAccess;
import dripledger.server.records.PostgresCheckpoints;
import dripledger.server.records.PostgresDefinitions;
import dripledger.server.records.PostgresUpkeep;
import dripledger.server.records.Rejects;
import java.nio.ByteBuffer;
import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.PreparedStatement;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.Clock;
import java.time.Duration;
import java.util.List;
import java.util.Properties;
import java.util.Random;
import java.util.concurrent.Future;
import org.apache.kafka.clients.admin.Admin;
import org.apache.kafka.clients.admin.NewTopic;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.clients.consumer.KafkaConsumer;
import org.apache.kafka.clients.producer.KafkaProducer;
import org.apache.kafka.clients.producer.ProducerRecord;
import org.apache.kafka.common.TopicPartition;
import org.apache.kafka.common.serialization.ByteArrayDeserializer;
import org.apache.kafka.common.serialization.ByteArraySerializer;
import org.flywaydb.core.Flyway;
import org.postgresql.PGConnection;
import org.postgresql.PGProperty;
import org.postgresql.ds.PGSimpleDataSource;
import org.postgresql.replication.PGReplicationStream;
import tools.jackson.core.JsonParser;
import tools.jackson.core.JsonToken;
import tools.jackson.core.json.JsonFactory;

/**
 * Reading from a real broker and a real database on loopback, each beside a plain loop over the
 * same client; what checkpoints cost, and what recovery takes.
 */
final class Reading {
  private static final int PARTITIONS = 3;
  private static final int ROUNDS = 3;
  private static final String FILTER =
      "CREATE MATERIALIZED VIEW v AS SELECT parcel, gate, at FROM scan WHERE grams > 4900";
  private static final String PASSWORD = "loopback";

  private final int records;
  private final int keys;
  private final PGSimpleDataSource store = new PGSimpleDataSource();
  private long blackHole;

  Reading(int records, int keys) {
    this.records = records;
    this.keys = keys;
  }

  void run() throws Exception {
    PostgresCluster cluster = PostgresCluster.temporary(true);
    store.setURL(cluster.jdbcUrl(PostgresCluster.DATABASE));
    store.setUser(PostgresCluster.USER);
    store.setPassword(PASSWORD);
    Flyway.configure().dataSource(store).load().migrate();
    try (KafkaBroker broker = KafkaBroker.temporary(Path.of(System.getenv("DRIP_HUB_LIB")))) {
      produce(broker.servers());
      broker(broker.servers());
    }
    database(cluster);
    System.out.println(blackHole == 42 ? "" : " "); // so that reading is not left out
  }

  // ---- the broker

  private void produce(String servers) throws Exception {
    Properties p = new Properties();
    p.put("bootstrap.servers", servers);
    p.put("linger.ms", "20");
    p.put("batch.size", "262144");
    try (Admin admin = Admin.create(p)) {
      admin.createTopics(List.of(new NewTopic("scan", PARTITIONS, (short) 1))).all().get();
    }
    Random random = new Random(1);
    try (KafkaProducer<byte[], byte[]> producer =
        new KafkaProducer<>(p, new ByteArraySerializer(), new ByteArraySerializer())) {
      for (int i = 0; i < records; i++) {
        String value =
            "{\"parcel\":"
                + random.nextInt(keys)
                + ",\"gate\":\"G"
                + (10 + random.nextInt(24))
                + "\",\"at\":\"2026-03-02T06:14:0"
                + random.nextInt(10)
                + ".120Z\",\"grams\":"
                + random.nextInt(5000)
                + ",\"scanner\":{\"id\":\"S-31\",\"battery\":0.82},\"site\":\"quillhaven\",\"belt\":4}";
        Future<?> ignored =
            producer.send(
                new ProducerRecord<>(
                    "scan", i % PARTITIONS, null, value.getBytes(StandardCharsets.UTF_8)));
      }
    }
  }

  private void broker(String servers) throws Exception {
    double raw = best(() -> plain(servers, false));
    double parsed = best(() -> plain(servers, true));
    System.out.printf("%nbroker, %,d records of about 150 bytes%n", records);
    row("plain consumer loop", raw, 0);
    row("plain consumer loop that parses six fields", parsed, 0);
    double filtered = best(() -> ours(servers, FILTER, 0));
    row("into a filter view", filtered, parsed);
    System.out.printf("  that is %.2f of the loop that does not parse%n", filtered / raw);
    String keyed =
        "CREATE MATERIALIZED VIEW v AS SELECT parcel, COUNT(*) AS n, SUM(grams) AS g FROM scan"
            + " GROUP BY parcel";
    double without = best(() -> ours(servers, keyed, 3_600_000));
    row(String.format("into an aggregate of %,d keys, no checkpoints", keys), without, parsed);
    double with = best(() -> ours(servers, keyed, 5000));
    row("the same with a checkpoint every 5 s", with, parsed);
    System.out.printf("  checkpoints cost %.0f%%%n", 100 * (1 - with / without));
  }

  private interface Round {
    double run() throws Exception;
  }

  /** The best of some rounds: the first also warms the compiler. */
  private static double best(Round round) throws Exception {
    double best = 0;
    for (int i = 0; i < ROUNDS; i++) {
      best = Math.max(best, round.run());
    }
    return best;
  }

  private static void row(String what, double perSecond, double baseline) {
    System.out.printf(
        "  %-52s %,12.0f a second%s%n",
        what,
        perSecond,
        baseline > 0 ? String.format("  %.2f of the parsing loop", perSecond / baseline) : "");
  }

  private double plain(String servers, boolean parse) throws Exception {
    Properties p = new Properties();
    p.put("bootstrap.servers", servers);
    p.put("max.poll.records", "20000");
    p.put("fetch.max.bytes", "16777216");
    p.put("max.partition.fetch.bytes", "8388608");
    p.put("receive.buffer.bytes", "1048576");
    MessageParser json = new MessageParser(new JsonFactory());
    try (KafkaConsumer<byte[], byte[]> consumer =
        new KafkaConsumer<>(p, new ByteArrayDeserializer(), new ByteArrayDeserializer())) {
      List<TopicPartition> partitions =
          List.of(
              new TopicPartition("scan", 0),
              new TopicPartition("scan", 1),
              new TopicPartition("scan", 2));
      consumer.assign(partitions);
      consumer.seekToBeginning(partitions);
      long began = System.nanoTime();
      for (int read = 0; read < records; ) {
        var polled = consumer.poll(Duration.ofMillis(200));
        read += polled.count();
        if (parse) {
          for (ConsumerRecord<byte[], byte[]> record : polled) {
            parse(json, record.value());
          }
        }
      }
      return records / ((System.nanoTime() - began) / 1e9);
    }
  }

  /** As a careful program would: one parser, and no text that is not kept. */
  private void parse(MessageParser messages, byte[] value) {
    if (!messages.read(value, 0, value.length, this::fields)) {
      throw new IllegalStateException("a broken record");
    }
  }

  private void fields(JsonParser parser) {
    int depth = 1;
    while (depth > 0) {
      JsonToken token = parser.nextToken();
      if (token == JsonToken.PROPERTY_NAME) {
        String name = parser.currentName();
        token = parser.nextToken();
        switch (name) {
          case "parcel", "grams" -> blackHole += parser.getLongValue();
          case "gate", "id", "at" -> blackHole += parser.getStringLength();
          case "battery" -> blackHole += (long) parser.getDoubleValue();
          default -> {}
        }
      }
      depth += token.isStructStart() ? 1 : token.isStructEnd() ? -1 : 0;
    }
  }

  /** Declares while there is nothing to read, then starts again with everything there. */
  private double ours(String servers, String view, long checkpointMillis) throws Exception {
    clear();
    MemoryLedger ledger = new MemoryLedger();
    try (OutsideSystems outside =
        new OutsideSystems(
            name -> PASSWORD,
            3600,
            DriftStore.NONE,
            Path.of(System.getProperty("java.io.tmpdir")),
            Reach.ANYWHERE)) {
      Engine declaring = engine(ledger, outside, 3_600_000);
      declaring.execute(
          "CREATE CONNECTION hub_log TYPE kafka OPTIONS (bootstrap_servers '"
              + servers
              + "'); CREATE STREAM scan (parcel BIGINT NOT NULL, gate VARCHAR, at TIMESTAMP, grams"
              + " INTEGER, scanner ROW(id VARCHAR, battery DOUBLE), EVENT TIME at) FROM hub_log"
              + " (topic 'scan') FORMAT json");
      declaring.execute(
          view.replace("FROM scan", "FROM scan WHERE parcel < 0").replace("< 0 WHERE", "< 0 AND"));
      declaring.close();
      forgetState(view);
      Engine engine = engine(ledger, outside, checkpointMillis);
      long began = System.nanoTime();
      while (engine.loop().rowsTaken() < records) {
        Thread.sleep(5);
      }
      double perSecond = records / ((System.nanoTime() - began) / 1e9);
      if (checkpointMillis > 0 && checkpointMillis < 3_600_000) {
        engine.checkpointer().request().get();
        System.out.printf(
            "  last checkpoint %d ms, pause %.1f ms, %,d bytes in all%n",
            engine.checkpointer().figures().millis(),
            engine.checkpointer().figures().pauseMicros() / 1e3,
            engine.checkpointer().figures().totalBytes());
        engine.close();
        recovery(ledger, outside);
      } else {
        engine.close();
      }
      return perSecond;
    }
  }

  private void recovery(MemoryLedger ledger, OutsideSystems outside) throws Exception {
    long began = System.nanoTime();
    Engine again = engine(ledger, outside, 3_600_000);
    double seconds = (System.nanoTime() - began) / 1e9;
    long rows = again.relation("v").count();
    System.out.printf(
        "  recovery of %,d keys: %.2f s, %.2f s a million%n", rows, seconds, seconds / rows * 1e6);
    again.close();
  }

  private Engine engine(MemoryLedger ledger, OutsideSystems outside, long checkpointMillis) {
    EngineOptions defaults = EngineOptions.defaults();
    EngineOptions options =
        new EngineOptions(
            defaults.maxEpochRows(),
            defaults.maxQueuedBytes(),
            defaults.maxResultRows(),
            defaults.maxFollowerRows(),
            defaults.maxHeldBytes(),
            checkpointMillis == 0 ? 3_600_000 : checkpointMillis,
            defaults.queryMillis(),
            defaults.maxQueryBytes(),
            defaults.changeMillis(),
            defaults.workers(),
            defaults.togetherRows());
    Engine engine =
        new Engine(
            options,
            new Records(
                ledger,
                new PostgresDefinitions(store, Fence.NONE),
                new PostgresCheckpoints(store, Fence.NONE, 100),
                new Rejects(store),
                new PostgresUpkeep(store),
                new PostgresAccess(store, new Journal(store))),
            outside,
            Clock.systemUTC());
    engine.start();
    return engine;
  }

  private void clear() throws SQLException {
    execute(
        store.getConnection(),
        "TRUNCATE definition, definition_history, checkpoint, checkpoint_input, checkpoint_node,"
            + " checkpoint_chunk, reject, ledger_end, ledger_input, ledger_segment");
  }

  /** The view as it should be, and nothing read yet. */
  private void forgetState(String view) throws SQLException {
    try (Connection c = store.getConnection();
        var s = c.prepareStatement("UPDATE definition SET statement = ? WHERE name = 'v'")) {
      s.setString(1, view);
      s.executeUpdate();
    }
    execute(
        store.getConnection(),
        "TRUNCATE checkpoint, checkpoint_input, checkpoint_node, checkpoint_chunk");
  }

  private static void execute(Connection connection, String... statements) throws SQLException {
    try (Connection c = connection;
        Statement s = c.createStatement()) {
      for (String statement : statements) {
        s.execute(statement);
      }
    }
  }

  // ---- the database

  private void database(PostgresCluster cluster) throws Exception {
    clear();
    int changes = Math.max(1000, records / 3 / 1000 * 1000);
    String url = cluster.jdbcUrl(PostgresCluster.DATABASE);
    execute(
        store.getConnection(),
        "CREATE TABLE parcel (id bigint PRIMARY KEY, service text, grams integer, note text)");
    try (OutsideSystems outside =
        new OutsideSystems(
            name -> PASSWORD,
            3600,
            DriftStore.NONE,
            Path.of(System.getProperty("java.io.tmpdir")),
            Reach.ANYWHERE)) {
      Engine engine = engine(new MemoryLedger(), outside, 3_600_000);
      engine.execute(
          "CREATE CONNECTION ops TYPE postgres OPTIONS (url '"
              + url
              + "', user 'drip', password SECRET hub_password); CREATE TABLE parcel FROM ops (table"
              + " 'public.parcel'); CREATE MATERIALIZED VIEW v AS SELECT service, COUNT(*) AS n,"
              + " SUM(grams) AS g FROM parcel GROUP BY service");
      engine.close();
      execute(
          store.getConnection(), "SELECT pg_create_logical_replication_slot('plain', 'pgoutput')");
      double plain = 0;
      double ours = 0;
      for (int round = 0; round < ROUNDS; round++) {
        insert(round * changes, changes);
        plain = Math.max(plain, plainReader(url, changes));
        Engine again = engine(new MemoryLedger(), outside, 3_600_000);
        long began = System.nanoTime();
        while (again.relation("parcel").count() < (round + 1L) * changes) {
          Thread.sleep(2);
        }
        ours = Math.max(ours, changes / ((System.nanoTime() - began) / 1e9));
        again.checkpointer().request().get();
        again.close();
      }
      System.out.printf("%ndatabase, %,d inserts in transactions of 1,000%n", changes);
      row("plain reader of the slot", plain, 0);
      System.out.printf(
          "  %-52s %,12.0f a second  %.2f of the plain reader%n",
          "into a table and an aggregate", ours, ours / plain);
    }
  }

  private void insert(int first, int count) throws SQLException {
    try (Connection c = store.getConnection();
        PreparedStatement s =
            c.prepareStatement(
                "INSERT INTO parcel SELECT g, 'standard', g % 5000, 'note ' || g"
                    + " FROM generate_series(?, ?) g")) {
      for (int from = first; from < first + count; from += 1000) {
        s.setInt(1, from);
        s.setInt(2, from + 999);
        s.execute();
      }
    }
  }

  private double plainReader(String url, int changes) throws Exception {
    Properties p = new Properties();
    PGProperty.USER.set(p, PostgresCluster.USER);
    PGProperty.PASSWORD.set(p, PASSWORD);
    PGProperty.REPLICATION.set(p, "database");
    PGProperty.ASSUME_MIN_SERVER_VERSION.set(p, "10");
    PGProperty.PREFER_QUERY_MODE.set(p, "simple");
    try (Connection c = DriverManager.getConnection(url, p);
        PGReplicationStream stream =
            c.unwrap(PGConnection.class)
                .getReplicationAPI()
                .replicationStream()
                .logical()
                .withSlotName("plain")
                .withSlotOption("proto_version", "1")
                .withSlotOption("publication_names", "drip_ops")
                .start()) {
      long began = System.nanoTime();
      for (int read = 0; read < changes; ) {
        ByteBuffer message = stream.read();
        if (message.get() == 'I') {
          read++;
        }
        blackHole += message.remaining();
      }
      return changes / ((System.nanoTime() - began) / 1e9);
    }
  }
}
