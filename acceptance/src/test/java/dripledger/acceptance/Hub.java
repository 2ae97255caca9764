package dripledger.acceptance;

import dripledger.demo.KafkaBroker;
import dripledger.demo.PostgresCluster;
import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Path;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.SQLException;
import java.sql.Statement;
import java.time.Duration;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Properties;
import java.util.concurrent.ExecutionException;
import org.apache.kafka.clients.admin.Admin;
import org.apache.kafka.clients.admin.NewTopic;
import org.apache.kafka.clients.admin.ScramCredentialInfo;
import org.apache.kafka.clients.admin.ScramMechanism;
import org.apache.kafka.clients.admin.UserScramCredentialUpsertion;
import org.apache.kafka.clients.consumer.ConsumerRecord;
import org.apache.kafka.clients.consumer.KafkaConsumer;
import org.apache.kafka.clients.producer.KafkaProducer;
import org.apache.kafka.clients.producer.ProducerRecord;
import org.apache.kafka.common.TopicPartition;
import org.apache.kafka.common.config.ConfigResource;
import org.apache.kafka.common.serialization.ByteArraySerializer;
import org.apache.kafka.common.serialization.StringDeserializer;
import org.apache.kafka.common.serialization.StringSerializer;

/** The outside systems of tests: a real broker and a real operations database, on loopback. */
final class Hub implements AutoCloseable {
  private final KafkaBroker broker;
  private final PostgresCluster operations;
  private KafkaProducer<String, String> producer;

  Hub() throws IOException, InterruptedException, SQLException {
    broker = KafkaBroker.temporary(Path.of(System.getProperty("drip.hub.lib")));
    operations = PostgresCluster.temporary(true);
    try (Connection c = connect(PostgresCluster.DATABASE);
        Statement s = c.createStatement()) {
      s.execute("CREATE DATABASE hub");
    }
    awaitBroker();
  }

  /** Kills the broker and starts it again. */
  void restartBroker() throws IOException, InterruptedException {
    broker.kill();
    startBroker();
  }

  /** Starts the broker that was killed. */
  void startBroker() throws IOException, InterruptedException {
    broker.start();
    awaitBroker();
  }

  /** Waits until the broker answers, which is some time after it listens. */
  private void awaitBroker() throws IOException, InterruptedException {
    Map<String, Object> patient =
        Map.of("bootstrap.servers", broker.servers(), "default.api.timeout.ms", "60000");
    try (Admin admin = Admin.create(patient)) {
      admin.describeCluster().nodes().get();
    } catch (ExecutionException e) {
      throw new IOException("the broker does not answer", e);
    }
  }

  KafkaBroker broker() {
    return broker;
  }

  PostgresCluster operations() {
    return operations;
  }

  private Connection connect(String database) throws SQLException {
    return DriverManager.getConnection(
        operations.jdbcUrl(database), PostgresCluster.USER, "loopback");
  }

  /** A new connection to the operations database. */
  Connection connect() throws SQLException {
    return connect("hub");
  }

  void execute(String... statements) throws SQLException {
    try (Connection c = connect();
        Statement s = c.createStatement()) {
      for (String statement : statements) {
        s.execute(statement);
      }
    }
  }

  /**
   * The statements that connect a service to all of this; its secret must be set.
   *
   * @param slot that is the service's own
   */
  private String connections(String slot) {
    return "CREATE CONNECTION hub_log TYPE kafka OPTIONS (bootstrap_servers '"
        + broker.servers()
        + "');"
        + "CREATE CONNECTION hub_ops TYPE postgres OPTIONS (url '"
        + operations.jdbcUrl("hub")
        + "', user 'drip', password SECRET hub_ops_password, slot '"
        + slot
        + "');";
  }

  /** Sets the secret and makes the connections of the one service that has the usual slot. */
  void connect(LiveService service) throws IOException, InterruptedException {
    connect(service, "drip_hub_ops");
  }

  /** Sets the secret and makes the connections. */
  void connect(LiveService service, String slot) throws IOException, InterruptedException {
    awaitBroker(); // it may have been idle for minutes
    service.call("PUT", "/api/v1/secrets/hub_ops_password", "{\"value\":\"loopback\"}");
    service.sql(connections(slot));
  }

  void topic(String name, int partitions) throws InterruptedException, ExecutionException {
    Properties p = new Properties();
    p.put("bootstrap.servers", broker.servers());
    try (Admin admin = Admin.create(p)) {
      admin.createTopics(List.of(new NewTopic(name, partitions, (short) 1))).all().get();
    }
  }

  /** Makes a user that logs in by SCRAM. */
  void scramUser(String name, String password, String mechanism)
      throws InterruptedException, ExecutionException {
    try (Admin admin = Admin.create(Map.of("bootstrap.servers", broker.servers()))) {
      ScramCredentialInfo how =
          new ScramCredentialInfo(ScramMechanism.fromMechanismName(mechanism), 4096);
      admin
          .alterUserScramCredentials(List.of(new UserScramCredentialUpsertion(name, how, password)))
          .all()
          .get();
    }
  }

  /** The groups that the broker knows. */
  List<String> groups() throws InterruptedException, ExecutionException {
    try (Admin admin = Admin.create(Map.of("bootstrap.servers", broker.servers()))) {
      return admin.listGroups().all().get().stream().map(g -> g.groupId()).toList();
    }
  }

  synchronized KafkaProducer<String, String> producer() {
    if (producer == null) {
      Properties p = new Properties();
      p.put("bootstrap.servers", broker.servers());
      p.put("linger.ms", "5");
      p.put("delivery.timeout.ms", "60000");
      p.put("request.timeout.ms", "5000");
      producer = new KafkaProducer<>(p, new StringSerializer(), new StringSerializer());
    }
    return producer;
  }

  /** Writes messages and waits until the broker has them; a null value is a tombstone. */
  void send(String topic, String key, String... values) {
    for (String value : values) {
      var ignored = producer().send(new ProducerRecord<>(topic, key, value));
    }
    producer().flush();
  }

  /** Writes one message of any bytes, without a key. */
  void send(String topic, byte[] value) {
    Properties p = new Properties();
    p.put("bootstrap.servers", broker.servers());
    try (KafkaProducer<byte[], byte[]> bytes =
        new KafkaProducer<>(p, new ByteArraySerializer(), new ByteArraySerializer())) {
      var ignored = bytes.send(new ProducerRecord<>(topic, value));
    }
  }

  /** Writes a message of a time into a partition. */
  void sendAt(String topic, int partition, long millis, String value) {
    var ignored = producer().send(new ProducerRecord<>(topic, partition, millis, null, value));
    producer().flush();
  }

  /** A setting of a topic at the broker. */
  String topicSetting(String topic, String name) throws InterruptedException, ExecutionException {
    ConfigResource resource = new ConfigResource(ConfigResource.Type.TOPIC, topic);
    try (Admin admin = Admin.create(Map.of("bootstrap.servers", broker.servers()))) {
      return admin.describeConfigs(List.of(resource)).all().get().get(resource).get(name).value();
    }
  }

  /** All committed messages of a topic, partition by partition. */
  List<ConsumerRecord<String, String>> all(String topic) {
    Properties p = new Properties();
    p.put("bootstrap.servers", broker.servers());
    p.put("isolation.level", "read_committed");
    List<ConsumerRecord<String, String>> records = new ArrayList<>();
    try (KafkaConsumer<String, String> consumer =
        new KafkaConsumer<>(p, new StringDeserializer(), new StringDeserializer())) {
      List<TopicPartition> partitions =
          consumer.partitionsFor(topic).stream()
              .map(i -> new TopicPartition(topic, i.partition()))
              .toList();
      consumer.assign(partitions);
      consumer.seekToBeginning(partitions);
      var end = consumer.endOffsets(partitions);
      while (partitions.stream().anyMatch(t -> consumer.position(t) < end.get(t))) {
        consumer.poll(Duration.ofMillis(200)).forEach(records::add);
      }
    }
    return records;
  }

  /** Bytes as the broker keeps them. */
  static byte[] bytes(String text) {
    return text.getBytes(StandardCharsets.UTF_8);
  }

  @Override
  public void close() {
    if (producer != null) {
      producer.close(Duration.ZERO);
    }
    broker.close();
    operations.close();
  }
}
