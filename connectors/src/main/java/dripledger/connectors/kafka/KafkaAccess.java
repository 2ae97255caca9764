package dripledger.connectors.kafka;

import dripledger.connectors.ConnectionOptions;
import dripledger.connectors.format.RegistryLogin;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.io.IOException;
import java.net.InetAddress;
import java.net.InetSocketAddress;
import java.net.Socket;
import java.net.UnknownHostException;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import java.util.Properties;
import java.util.Set;
import java.util.concurrent.ExecutionException;
import org.apache.kafka.clients.admin.Admin;
import org.apache.kafka.clients.consumer.ConsumerGroupMetadata;
import org.apache.kafka.clients.consumer.KafkaConsumer;
import org.apache.kafka.clients.producer.KafkaProducer;
import org.apache.kafka.common.KafkaException;
import org.apache.kafka.common.KafkaFuture;
import org.apache.kafka.common.errors.AuthorizationException;
import org.apache.kafka.common.errors.SaslAuthenticationException;
import org.apache.kafka.common.errors.SslAuthenticationException;
import org.apache.kafka.common.errors.TimeoutException;
import org.apache.kafka.common.errors.UnknownTopicOrPartitionException;
import org.apache.kafka.common.serialization.ByteArrayDeserializer;
import org.apache.kafka.common.serialization.ByteArraySerializer;

/** Clients for a connection's options, and what their failures mean. */
final class KafkaAccess {
  private static final int CONNECT_MILLIS = 6000;

  /**
   * A broker that is busy, or whose memory was paged out, may take seconds for its first answer.
   */
  private static final int ANSWER_MILLIS = 15_000;

  private static final Set<String> OPTIONS =
      Set.of(
          "bootstrap_servers",
          "tls",
          "tls_ca_file",
          "tls_client_file",
          "tls_client_password",
          "sasl",
          "user",
          "password",
          "reader_group",
          "registry_user",
          "registry_password",
          "registry_token");

  private final ConnectionOptions options;

  KafkaAccess(ConnectionOptions options) {
    this.options = options;
  }

  /** As who the schema registry of its topics is asked. */
  RegistryLogin registryLogin() {
    for (String secret : new String[] {"registry_password", "registry_token"}) {
      if (options.get(secret) != null && !options.isSecret(secret)) {
        throw new EngineException(
            Code.INVALID,
            "option \"" + secret + "\" would keep a secret in plain text",
            "drip secret set NAME, then write " + secret + " SECRET NAME");
      }
    }
    String user = options.get("registry_user");
    String password = options.get("registry_password");
    String token = options.get("registry_token");
    if ((user == null) != (password == null) || user != null && token != null) {
      throw new EngineException(
          Code.INVALID,
          "a schema registry is asked with registry_user and registry_password, or registry_token",
          "give the first two, or only the third");
    }
    return token != null
        ? RegistryLogin.bearer(token)
        : user != null ? RegistryLogin.basic(user, password) : RegistryLogin.NONE;
  }

  /** Checks the options and that somebody listens; cheap enough to be asked often. */
  void check() {
    options.allowOnly(OPTIONS);
    registryLogin();
    properties();
    List<String> problems = new ArrayList<>();
    String servers = servers();
    for (String server : servers.split(",")) {
      String problem = problem(server.strip());
      if (problem == null) {
        return;
      }
      problems.add(problem);
    }
    throw new EngineException(
        Code.FAILED,
        "the broker cannot be reached: " + String.join("; ", problems),
        "check option \"bootstrap_servers\", and that the broker runs");
  }

  private String servers() {
    return options.required("bootstrap_servers", "'127.0.0.1:9092'");
  }

  private static String problem(String server) {
    int colon = server.lastIndexOf(':');
    int port;
    try {
      port = colon < 0 ? -1 : Integer.parseInt(server.substring(colon + 1));
    } catch (NumberFormatException e) {
      port = -1;
    }
    if (port < 0 || port > 65535) {
      throw new EngineException(
          Code.INVALID,
          "option \"bootstrap_servers\": \"" + server + "\" is not HOST:PORT",
          "write bootstrap_servers '127.0.0.1:9092'");
    }
    String host = server.substring(0, colon);
    try (Socket socket = new Socket()) {
      socket.connect(new InetSocketAddress(InetAddress.getByName(host), port), CONNECT_MILLIS);
      return null;
    } catch (UnknownHostException e) {
      return "no host is called " + host;
    } catch (IOException e) {
      return "nobody answers at " + server;
    }
  }

  Properties properties() {
    Properties p = new Properties();
    p.put("bootstrap.servers", servers());
    p.put("client.id", "drip-ledger-" + options.name());
    p.put("request.timeout.ms", "10000");
    p.put("default.api.timeout.ms", "" + ANSWER_MILLIS);
    p.put("socket.connection.setup.timeout.ms", "" + CONNECT_MILLIS);
    p.put("reconnect.backoff.max.ms", "2000");
    boolean tls = options.isOn("tls");
    for (String file : List.of("tls_ca_file", "tls_client_file")) {
      if (!tls && options.get(file) != null) {
        throw new EngineException(
            Code.INVALID, "option \"" + file + "\" without tls 'on' protects nothing", null);
      }
    }
    String sasl = options.get("sasl");
    p.put(
        "security.protocol",
        sasl == null ? (tls ? "SSL" : "PLAINTEXT") : tls ? "SASL_SSL" : "SASL_PLAINTEXT");
    if (tls) {
      if (options.get("tls_ca_file") != null) {
        p.put("ssl.truststore.type", "PEM");
        p.put("ssl.truststore.location", options.get("tls_ca_file"));
      }
      if (options.get("tls_client_file") != null) {
        p.put("ssl.keystore.type", "PEM");
        p.put("ssl.keystore.location", options.get("tls_client_file"));
        if (options.get("tls_client_password") != null) {
          p.put("ssl.key.password", options.get("tls_client_password"));
        }
      }
    }
    if (sasl != null) {
      sasl(p, sasl);
    }
    return p;
  }

  private void sasl(Properties p, String mechanism) {
    if (!Set.of("PLAIN", "SCRAM-SHA-256", "SCRAM-SHA-512").contains(mechanism)) {
      throw new EngineException(
          Code.INVALID,
          "option \"sasl\" cannot be \"" + mechanism + "\"",
          "there are PLAIN, SCRAM-SHA-256 and SCRAM-SHA-512");
    }
    String module =
        mechanism.equals("PLAIN")
            ? "org.apache.kafka.common.security.plain.PlainLoginModule"
            : "org.apache.kafka.common.security.scram.ScramLoginModule";
    p.put("sasl.mechanism", mechanism);
    p.put(
        "sasl.jaas.config",
        module
            + " required username="
            + quoted(options.required("user", "'drip'"))
            + " password="
            + quoted(options.required("password", "SECRET name"))
            + ";");
  }

  private static String quoted(String value) {
    return '"' + value.replace("\\", "\\\\").replace("\"", "\\\"") + '"';
  }

  Admin admin() {
    return Admin.create(properties());
  }

  /** The number the broker has given a topic: another of the same name has another. */
  String topicId(Admin admin, String topic) {
    return get(admin.describeTopics(List.of(topic)).topicNameValues().get(topic))
        .topicId()
        .toString();
  }

  /** A consumer that reads big pieces and never commits. */
  KafkaConsumer<byte[], byte[]> consumer(String offsetReset) {
    Properties p = properties();
    p.put("enable.auto.commit", "false");
    p.put("auto.offset.reset", offsetReset);
    p.put("isolation.level", "read_committed");
    p.put("allow.auto.create.topics", "false");
    p.put("max.poll.records", "20000");
    p.put("fetch.min.bytes", "1");
    p.put("fetch.max.bytes", "16777216");
    p.put("max.partition.fetch.bytes", "8388608");
    p.put("receive.buffer.bytes", "1048576");
    p.put("metadata.max.age.ms", "20000");
    if (options.get("reader_group") != null) {
      p.put("group.id", options.get("reader_group"));
    }
    return new KafkaConsumer<>(p, new ByteArrayDeserializer(), new ByteArrayDeserializer());
  }

  /** A producer whose messages come in transactions; who makes another of its name ends it. */
  KafkaProducer<byte[], byte[]> producer(String transactions) {
    Properties p = properties();
    p.put("transactional.id", transactions);
    p.put("acks", "all");
    p.put("linger.ms", "5");
    p.put("batch.size", "262144");
    p.put("compression.type", "lz4");
    p.put("max.block.ms", "" + ANSWER_MILLIS);
    p.put("delivery.timeout.ms", "30000");
    p.put("buffer.memory", "33554432");
    return new KafkaProducer<>(p, new ByteArraySerializer(), new ByteArraySerializer());
  }

  /** What a producer must know of a group to say how far it is. */
  ConsumerGroupMetadata member(String group) {
    Properties p = properties();
    p.put("group.id", group);
    try (KafkaConsumer<byte[], byte[]> never =
        new KafkaConsumer<>(p, new ByteArrayDeserializer(), new ByteArrayDeserializer())) {
      return never.groupMetadata();
    }
  }

  boolean hasGroup() {
    return options.get("reader_group") != null;
  }

  /** Waits for an answer of the broker. */
  <T> T get(KafkaFuture<T> future) {
    try {
      return future.get();
    } catch (ExecutionException e) {
      throw failure(e.getCause());
    } catch (InterruptedException e) {
      Thread.currentThread().interrupt();
      throw new IllegalStateException("interrupted", e);
    }
  }

  /** What a failure of the client means for the user. */
  EngineException failure(Throwable e) {
    if (e instanceof SaslAuthenticationException) {
      return new EngineException(
          Code.FAILED,
          "the broker refuses user \"" + options.get("user", "") + "\": wrong user or password",
          "check options user, password and sasl");
    }
    if (e instanceof SslAuthenticationException) {
      return new EngineException(
          Code.FAILED,
          "the broker's certificate is not trusted, or ours is refused: " + e.getMessage(),
          "check options tls_ca_file and tls_client_file");
    }
    if (e instanceof AuthorizationException) {
      return new EngineException(
          Code.FAILED,
          "the broker does not permit it: " + e.getMessage(),
          "give the user the right to read and describe the topic");
    }
    if (e instanceof UnknownTopicOrPartitionException) {
      return new EngineException(Code.NOT_FOUND, "the topic is not there", null);
    }
    if (e instanceof TimeoutException) {
      String other = options.get("sasl") == null ? "; does it ask for a user, or for TLS?" : "";
      return new EngineException(
          Code.FAILED, "the broker did not answer in time" + other, "look at the broker's log");
    }
    if (e instanceof EngineException known) {
      return known;
    }
    Throwable cause = e instanceof KafkaException && e.getCause() != null ? e.getCause() : e;
    return new EngineException(Code.FAILED, "the broker: " + cause.getMessage(), null);
  }

  /** Headers of a record, by name. */
  static Map<String, String> headers(org.apache.kafka.common.header.Headers headers) {
    Map<String, String> map = new java.util.LinkedHashMap<>();
    headers.forEach(
        h ->
            map.put(
                h.key(),
                h.value() == null
                    ? null
                    : new String(h.value(), java.nio.charset.StandardCharsets.UTF_8)));
    return map;
  }
}
