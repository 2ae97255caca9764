package dripledger.server;

import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import dripledger.demo.PostgresCluster;
import dripledger.server.access.Tls;
import java.io.InputStream;
import java.net.URI;
import java.nio.file.Files;
import java.nio.file.Path;
import java.security.KeyStore;
import java.security.cert.Certificate;
import java.security.cert.CertificateFactory;
import java.security.cert.X509Certificate;
import java.sql.Connection;
import java.sql.DriverManager;
import java.sql.SQLException;
import java.util.Base64;
import java.util.Properties;
import javax.net.ssl.HttpsURLConnection;
import javax.net.ssl.SSLContext;
import javax.net.ssl.TrustManagerFactory;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;
import org.springframework.boot.builder.SpringApplicationBuilder;
import org.springframework.context.ConfigurableApplicationContext;

/** Both ports encrypted by PEM files, which are changed meanwhile. */
class TlsTest {
  private static final String PASSWORD = "for-the-test";

  @TempDir private Path folder;

  /** Makes a key and a certificate of its own, as PEM files. */
  private void make(String name) throws Exception {
    Path store = folder.resolve(name + ".p12");
    Process keytool =
        new ProcessBuilder(
                Path.of(System.getProperty("java.home"), "bin", "keytool").toString(),
                "-genkeypair",
                "-alias",
                "own",
                "-keyalg",
                "EC",
                "-dname",
                "CN=" + name,
                "-ext",
                "SAN=DNS:localhost,IP:127.0.0.1",
                "-validity",
                "30",
                "-storetype",
                "PKCS12",
                "-keystore",
                store.toString(),
                "-storepass",
                PASSWORD)
            .inheritIO()
            .start();
    assertThat(keytool.waitFor()).isZero();
    KeyStore keys = KeyStore.getInstance("PKCS12");
    try (InputStream in = Files.newInputStream(store)) {
      keys.load(in, PASSWORD.toCharArray());
    }
    write(name + ".pem", "CERTIFICATE", keys.getCertificate("own").getEncoded());
    write(name + ".key", "PRIVATE KEY", keys.getKey("own", PASSWORD.toCharArray()).getEncoded());
  }

  private void write(String file, String kind, byte[] bytes) throws Exception {
    String text = Base64.getMimeEncoder(64, new byte[] {'\n'}).encodeToString(bytes);
    Files.writeString(
        folder.resolve(file),
        "-----BEGIN " + kind + "-----\n" + text + "\n-----END " + kind + "-----\n");
  }

  private SSLContext trusting(String name) throws Exception {
    KeyStore store = KeyStore.getInstance("PKCS12");
    store.load(null, null);
    try (InputStream in = Files.newInputStream(folder.resolve(name + ".pem"))) {
      Certificate own = CertificateFactory.getInstance("X.509").generateCertificate(in);
      store.setCertificateEntry("own", own);
    }
    TrustManagerFactory trust =
        TrustManagerFactory.getInstance(TrustManagerFactory.getDefaultAlgorithm());
    trust.init(store);
    SSLContext context = SSLContext.getInstance("TLS");
    context.init(null, trust.getTrustManagers(), null);
    return context;
  }

  /** Who the service says it is, if that rests on a certificate of ours. */
  private String subject(String port, String name) throws Exception {
    HttpsURLConnection c =
        (HttpsURLConnection)
            URI.create("https://127.0.0.1:" + port + "/api/v1/sign-in").toURL().openConnection();
    c.setSSLSocketFactory(trusting(name).getSocketFactory());
    assertThat(c.getResponseCode()).isEqualTo(200);
    assertThat(c.getHeaderField("Strict-Transport-Security")).isNotNull();
    return ((X509Certificate) c.getServerCertificates()[0]).getSubjectX500Principal().getName();
  }

  private Connection connect(String port, String mode, String name) throws SQLException {
    Properties p = new Properties();
    p.setProperty("user", "owner");
    p.setProperty("sslmode", mode);
    p.setProperty("sslrootcert", folder.resolve(name + ".pem").toString());
    return DriverManager.getConnection("jdbc:postgresql://127.0.0.1:" + port + "/ledger", p);
  }

  @Test
  void bothPortsAreEncryptedAndTheFilesReadAgain() throws Exception {
    make("first");
    make("second");
    Path certificate = Files.copy(folder.resolve("first.pem"), folder.resolve("own.pem"));
    Path key = Files.copy(folder.resolve("first.key"), folder.resolve("own.key"));
    String wire = "" + PostgresCluster.freePort();
    try (PostgresCluster cluster = PostgresCluster.temporary();
        ConfigurableApplicationContext service =
            new SpringApplicationBuilder(DripLedger.class)
                .run(
                    "--server.port=0",
                    "--drip.wire-port=" + wire,
                    "--drip.warm-up-millis=0",
                    "--drip.tls-certificate=" + certificate,
                    "--drip.tls-key=" + key,
                    "--drip.secret-key-file=" + folder.resolve("secrets"),
                    "--spring.datasource.url=" + cluster.jdbcUrl("drip"),
                    "--spring.datasource.password=loopback")) {
      String port = service.getEnvironment().getProperty("local.server.port");
      assertThat(subject(port, "first")).isEqualTo("CN=first");
      assertThatThrownBy(() -> subject(port, "second")).hasMessageContaining("certification path");
      try (Connection c = connect(wire, "verify-full", "first")) {
        assertThat(c.createStatement().executeQuery("SELECT 1").next()).isTrue();
      }
      assertThatThrownBy(() -> connect(wire, "verify-full", "second"))
          .isInstanceOf(SQLException.class);
      connect(wire, "disable", "first").close(); // on this machine that will do

      Files.writeString(certificate, "no certificate");
      Tls tls = service.getBean(Tls.class);
      while (tls.failure() == null) {
        Thread.onSpinWait();
      }
      assertThat(subject(port, "first")).isEqualTo("CN=first"); // what was read is still used
      Files.copy(
          folder.resolve("second.key"), key, java.nio.file.StandardCopyOption.REPLACE_EXISTING);
      Files.copy(
          folder.resolve("second.pem"),
          certificate,
          java.nio.file.StandardCopyOption.REPLACE_EXISTING);
      while (tls.failure() != null) {
        Thread.onSpinWait();
      }
      assertThat(subject(port, "second")).isEqualTo("CN=second");
      connect(wire, "verify-full", "second").close();
      assertThat(tls.expires()).isAfter(java.time.Instant.now());
    }
  }
}
