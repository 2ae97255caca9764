package dripledger.server.access;

import dripledger.server.Settings;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.attribute.FileTime;
import java.security.GeneralSecurityException;
import java.security.KeyStore;
import java.security.cert.X509Certificate;
import java.time.Instant;
import java.util.concurrent.Executors;
import java.util.concurrent.Future;
import java.util.concurrent.ScheduledExecutorService;
import java.util.concurrent.TimeUnit;
import javax.net.ssl.SSLContext;
import javax.net.ssl.TrustManagerFactory;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import org.springframework.beans.factory.annotation.Value;
import org.springframework.boot.autoconfigure.ssl.SslBundleRegistrar;
import org.springframework.boot.ssl.SslBundle;
import org.springframework.boot.ssl.SslBundleRegistry;
import org.springframework.boot.ssl.pem.PemSslStoreBundle;
import org.springframework.boot.ssl.pem.PemSslStoreDetails;
import org.springframework.boot.tomcat.servlet.TomcatServletWebServerFactory;
import org.springframework.boot.web.server.Ssl;
import org.springframework.boot.web.server.WebServerFactoryCustomizer;
import org.springframework.stereotype.Component;

/**
 * What connections are encrypted with, for both ports: a certificate and a key in PEM files, read
 * again when they change. Safe from any thread.
 */
@Component
public final class Tls
    implements SslBundleRegistrar,
        WebServerFactoryCustomizer<TomcatServletWebServerFactory>,
        AutoCloseable {
  private static final Logger LOG = LoggerFactory.getLogger(Tls.class);
  private static final String NAME = "drip";
  private static final int LOOK_SECONDS = 2;

  private final Path certificate;
  private final Path key;
  private final ScheduledExecutorService looking =
      Executors.newSingleThreadScheduledExecutor(
          task -> {
            Thread thread = new Thread(task, "tls");
            thread.setDaemon(true);
            return thread;
          });
  private volatile SslBundle bundle;
  private volatile SSLContext context;
  private volatile Instant expires;
  private volatile String failure;
  private String read = "";

  Tls(Settings settings, @Value("${server.address:127.0.0.1}") String address) {
    if (!Trust.isLoopback(address) && settings.tlsCertificate().isEmpty()) {
      throw new IllegalStateException(
          "server.address is "
              + address
              + ": away from this machine nothing goes unencrypted; set drip.tls-certificate and"
              + " drip.tls-key to PEM files");
    }
    boolean one = settings.tlsCertificate().isEmpty() != settings.tlsKey().isEmpty();
    if (one) {
      throw new IllegalStateException("drip.tls-certificate and drip.tls-key go together");
    }
    certificate = settings.tlsCertificate().isEmpty() ? null : Path.of(settings.tlsCertificate());
    key = certificate == null ? null : Path.of(settings.tlsKey());
    if (certificate != null) {
      try {
        read = changed();
        load();
      } catch (IOException | GeneralSecurityException | RuntimeException e) {
        throw new IllegalStateException(
            "the certificate in " + certificate + " or its key cannot be used: " + e.getMessage(),
            e);
      }
    }
  }

  /** Whether there is any. */
  public boolean isOn() {
    return certificate != null;
  }

  /** For connections that others make to us; null if it is not on. */
  public SSLContext context() {
    return context;
  }

  /** For connections of the service to itself: nothing but its own certificate will do. */
  public SSLContext toItself() throws GeneralSecurityException, IOException {
    KeyStore own = KeyStore.getInstance(KeyStore.getDefaultType());
    own.load(null, null);
    KeyStore keys = bundle.getStores().getKeyStore();
    for (String alias : java.util.Collections.list(keys.aliases())) {
      own.setCertificateEntry(alias, keys.getCertificate(alias));
    }
    TrustManagerFactory trust =
        TrustManagerFactory.getInstance(TrustManagerFactory.getDefaultAlgorithm());
    trust.init(own);
    SSLContext context = SSLContext.getInstance("TLS");
    context.init(null, trust.getTrustManagers(), null);
    return context;
  }

  /** When the certificate ends; null if there is none. */
  public Instant expires() {
    return expires;
  }

  /**
   * Why files that have changed could not be read, so that the old ones are still used; or null.
   */
  public String failure() {
    return failure;
  }

  private void load() throws IOException, GeneralSecurityException {
    PemSslStoreDetails details =
        PemSslStoreDetails.forCertificate(Files.readString(certificate))
            .withPrivateKey(Files.readString(key));
    PemSslStoreBundle stores = new PemSslStoreBundle(details, null);
    KeyStore store = stores.getKeyStore();
    X509Certificate own = null;
    for (String alias : java.util.Collections.list(store.aliases())) {
      if (store.getCertificate(alias) instanceof X509Certificate x) {
        own = x;
      }
    }
    SslBundle made = SslBundle.of(stores);
    context = made.createSslContext();
    expires = own == null ? null : own.getNotAfter().toInstant();
    bundle = made;
  }

  /** Differs when a file does. */
  private String changed() throws IOException {
    FileTime one = Files.getLastModifiedTime(certificate);
    FileTime other = Files.getLastModifiedTime(key);
    return one + " " + Files.size(certificate) + " " + other + " " + Files.size(key);
  }

  @Override
  public void registerBundles(SslBundleRegistry registry) {
    if (certificate == null) {
      return;
    }
    registry.registerBundle(NAME, bundle);
    Future<?> ignored =
        looking.scheduleWithFixedDelay(
            () -> look(registry), LOOK_SECONDS, LOOK_SECONDS, TimeUnit.SECONDS);
  }

  private void look(SslBundleRegistry registry) {
    try {
      String now = changed();
      if (!now.equals(read)) {
        load();
        read = now;
        registry.updateBundle(NAME, bundle);
        failure = null;
        LOG.info("the certificate was read again; it is good until {}", expires);
      }
    } catch (IOException | GeneralSecurityException | RuntimeException e) {
      if (failure == null) {
        LOG.warn("the certificate has changed and cannot be used: {}", e.getMessage());
      }
      failure = String.valueOf(e.getMessage());
    }
  }

  @Override
  public void customize(TomcatServletWebServerFactory factory) {
    if (certificate != null) {
      factory.setSsl(Ssl.forBundle(NAME));
    }
  }

  @Override
  public void close() {
    looking.shutdownNow();
  }
}
