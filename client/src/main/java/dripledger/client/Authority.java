package dripledger.client;

import java.io.IOException;
import java.io.InputStream;
import java.nio.file.Files;
import java.nio.file.Path;
import java.security.GeneralSecurityException;
import java.security.KeyStore;
import java.security.cert.Certificate;
import java.security.cert.CertificateFactory;
import javax.net.ssl.SSLContext;
import javax.net.ssl.SSLSocketFactory;
import javax.net.ssl.TrustManagerFactory;

/** Certificates that rest on what a file has, and on nothing else. Stateless. */
final class Authority {
  private Authority() {}

  static SSLSocketFactory trusted(Path pem) throws IOException {
    try (InputStream in = Files.newInputStream(pem)) {
      KeyStore store = KeyStore.getInstance(KeyStore.getDefaultType());
      store.load(null, null);
      int number = 0;
      for (Certificate each : CertificateFactory.getInstance("X.509").generateCertificates(in)) {
        store.setCertificateEntry("" + number++, each);
      }
      TrustManagerFactory trust =
          TrustManagerFactory.getInstance(TrustManagerFactory.getDefaultAlgorithm());
      trust.init(store);
      SSLContext context = SSLContext.getInstance("TLS");
      context.init(null, trust.getTrustManagers(), null);
      return context.getSocketFactory();
    } catch (GeneralSecurityException e) {
      throw new IOException(pem + " has no certificates that can be used: " + e.getMessage(), e);
    }
  }
}
