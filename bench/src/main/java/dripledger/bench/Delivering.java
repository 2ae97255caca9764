package dripledger.bench;

import dripledger.connectors.OutsideSystems;
import dripledger.connectors.Reach;
import dripledger.connectors.format.DriftStore;
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
import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.sql.Connection;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.Clock;
import java.util.Properties;
import java.util.concurrent.Future;
import org.apache.kafka.clients.admin.Admin;
import org.apache.kafka.clients.admin.NewTopic;
import org.apache.kafka.clients.producer.KafkaProducer;
import org.apache.kafka.clients.producer.ProducerRecord;
import org.apache.kafka.common.serialization.ByteArraySerializer;
import org.flywaydb.core.Flyway;
import org.postgresql.PGConnection;
import org.postgresql.copy.CopyIn;
import org.postgresql.ds.PGSimpleDataSource;

/**
 * Delivering to a real broker and a real database on loopback, each beside a plain loop over the
 * same client: messages that are made and sent, and rows that are copied and merged. What we take
 * longer for is the outbox, its place in checkpoints, and the transaction.
 */
final class Delivering {
  private static final String PASSWORD = "loopback";
  private static final int PARTITIONS = 3;
  private static final int ROUNDS = 3;
  private static final int AT_ONCE = 200_000; // rows of a transaction, as ours

  private final int rows;
  private final PGSimpleDataSource store = new PGSimpleDataSource();

  Delivering(int rows) {
    this.rows = rows;
  }

  void run() throws Exception {
    PostgresCluster cluster = PostgresCluster.temporary(true);
    store.setURL(cluster.jdbcUrl(PostgresCluster.DATABASE));
    store.setUser(PostgresCluster.USER);
    store.setPassword(PASSWORD);
    Flyway.configure().dataSource(store).load().migrate();
    System.out.printf("%ndelivering %,d rows of about 60 bytes%n", rows);
    try (KafkaBroker broker = KafkaBroker.temporary(Path.of(System.getenv("DRIP_HUB_LIB")));
        OutsideSystems outside =
            new OutsideSystems(
                name -> PASSWORD,
                3600,
                DriftStore.NONE,
                Path.of(System.getProperty("java.io.tmpdir")),
                Reach.ANYWHERE)) {
      topics(broker.servers());
      Engine engine = engine(outside);
      engine.execute(
          "CREATE CONNECTION log TYPE kafka OPTIONS (bootstrap_servers '"
              + broker.servers()
              + "'); CREATE CONNECTION ops TYPE postgres OPTIONS (url '"
              + cluster.jdbcUrl(PostgresCluster.DATABASE)
              + "', user 'drip', password SECRET p);"
              + " CREATE TABLE t (id BIGINT PRIMARY KEY, gate VARCHAR, grams BIGINT);");
      for (int from = 0; from < rows; from += 100_000) {
        engine.execute(
            "INSERT INTO t SELECT n, 'G' || CAST(MOD(n, 24) AS VARCHAR), n * 7 FROM generate_series("
                + from
                + ", "
                + (Math.min(rows, from + 100_000) - 1)
                + ") AS g (n)");
      }
      double plain = 0;
      double ours = 0;
      for (int round = 0; round < ROUNDS; round++) {
        plain = Math.max(plain, produce(broker.servers()));
        ours = Math.max(ours, deliver(engine, "TO log (topic 'ours')", round));
      }
      print("topic: plain producer loop", plain, 0);
      print("topic: delivered", ours, plain);
      table(engine);
      Enriching enriching = new Enriching(engine, broker.servers(), rows);
      double hand = enriching.byHand("scans_plain", "joined_plain");
      print("topic, join, topic: a loop by hand", hand, 0);
      print("topic, join, topic: ours, end to end", enriching.ours("scans", "joined"), hand);
      engine.close();
    }
  }

  private static void print(String what, double perSecond, double baseline) {
    System.out.printf(
        "  %-40s %,10.0f a second%s%n",
        what,
        perSecond,
        baseline == 0 ? "" : String.format("  %.2f of that loop", perSecond / baseline));
  }

  private static void topics(String servers) throws Exception {
    Properties p = new Properties();
    p.put("bootstrap.servers", servers);
    try (Admin admin = Admin.create(p)) {
      admin
          .createTopics(
              java.util.List.of(
                  new NewTopic("plain", PARTITIONS, (short) 1),
                  new NewTopic("scans_plain", PARTITIONS, (short) 1),
                  new NewTopic("joined_plain", PARTITIONS, (short) 1),
                  new NewTopic("scans", PARTITIONS, (short) 1),
                  new NewTopic("joined", PARTITIONS, (short) 1),
                  new NewTopic("ours", PARTITIONS, (short) 1)))
          .all()
          .get();
    }
  }

  private double produce(String servers) {
    Properties p = new Properties();
    p.put("bootstrap.servers", servers);
    p.put("acks", "all");
    p.put("linger.ms", "5");
    p.put("batch.size", "262144");
    p.put("compression.type", "lz4");
    try (KafkaProducer<byte[], byte[]> producer =
        new KafkaProducer<>(p, new ByteArraySerializer(), new ByteArraySerializer())) {
      long began = System.nanoTime();
      for (long n = 0; n < rows; n++) {
        String value = "{\"id\":" + n + ",\"gate\":\"G" + n % 24 + "\",\"grams\":" + n * 7 + "}";
        Future<?> ignored =
            producer.send(
                new ProducerRecord<>(
                    "plain",
                    Long.toString(n).getBytes(StandardCharsets.UTF_8),
                    value.getBytes(StandardCharsets.UTF_8)));
      }
      producer.flush();
      return rows / ((System.nanoTime() - began) / 1e9);
    }
  }

  /** Carries a snapshot of the table: rows a second, from the moment it is asked to be carried. */
  private double deliver(Engine engine, String target, int round) {
    String name = "s" + round;
    engine.execute(
        "CREATE SINK "
            + name
            + " "
            + target
            + " KEY (id) OPTIONS (upkeep 'on demand', rows 'upsert') AS SELECT id, gate, grams FROM t");
    double perSecond = refresh(engine, name);
    engine.execute("DROP SINK " + name);
    return perSecond;
  }

  private double refresh(Engine engine, String name) {
    long began = System.nanoTime();
    engine.execute("REFRESH SINK " + name);
    return rows / ((System.nanoTime() - began) / 1e9);
  }

  private void table(Engine engine) throws Exception {
    double plainLoad = 0;
    double plainChange = 0;
    double load = 0;
    double change = 0;
    for (int round = 0; round < ROUNDS; round++) {
      execute("DROP TABLE IF EXISTS public.plain, public.ours");
      execute("CREATE TABLE public.plain (id bigint PRIMARY KEY, gate text, grams bigint)");
      plainLoad = Math.max(plainLoad, merge(0));
      plainChange = Math.max(plainChange, merge(1));
      String name = "t" + round;
      engine.execute(
          "CREATE SINK "
              + name
              + " TO ops (table 'public.ours', create 'if missing') KEY (id) OPTIONS (upkeep 'on demand')"
              + " AS SELECT id, gate, grams FROM t");
      load = Math.max(load, refresh(engine, name));
      engine.execute("UPDATE t SET grams = grams + 1");
      engine.checkpointer().request().get();
      change = Math.max(change, refresh(engine, name));
      engine.execute("DROP SINK " + name);
    }
    print("table, first load: COPY and MERGE by hand", plainLoad, 0);
    print("table, first load: delivered", load, plainLoad);
    print("table, all changed: COPY and MERGE by hand", plainChange, 0);
    print("table, all changed: delivered", change, plainChange);
  }

  private double merge(int more) throws Exception {
    try (Connection c = store.getConnection();
        Statement s = c.createStatement()) {
      c.setAutoCommit(false);
      s.execute(
          "CREATE TEMP TABLE stage (id bigint, gate text, grams bigint) ON COMMIT DELETE ROWS");
      c.commit();
      long began = System.nanoTime();
      for (long from = 0; from < rows; from += AT_ONCE) {
        CopyIn copy = c.unwrap(PGConnection.class).getCopyAPI().copyIn("COPY stage FROM STDIN");
        StringBuilder lines = new StringBuilder();
        for (long n = from; n < Math.min(rows, from + AT_ONCE); n++) {
          lines
              .append(n)
              .append("\tG")
              .append(n % 24)
              .append('\t')
              .append(n * 7 + more)
              .append('\n');
        }
        byte[] bytes = lines.toString().getBytes(StandardCharsets.UTF_8);
        copy.writeToCopy(bytes, 0, bytes.length);
        copy.endCopy();
        s.execute(
            "MERGE INTO public.plain AS t USING stage AS s ON t.id = s.id WHEN MATCHED AND (t.gate, t.grams)"
                + " IS DISTINCT FROM (s.gate, s.grams) THEN UPDATE SET gate = s.gate, grams = s.grams WHEN"
                + " NOT MATCHED THEN INSERT VALUES (s.id, s.gate, s.grams)");
        c.commit();
      }
      return rows / ((System.nanoTime() - began) / 1e9);
    }
  }

  private void execute(String statement) throws SQLException {
    try (Connection c = store.getConnection();
        Statement s = c.createStatement()) {
      s.execute(statement);
    }
  }

  private Engine engine(OutsideSystems outside) {
    Engine engine =
        new Engine(
            EngineOptions.defaults(),
            new Records(
                new MemoryLedger(),
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
}
