package dripledger.server;

import dripledger.engine.Engine;
import dripledger.engine.access.Access;
import dripledger.engine.access.Role;
import dripledger.server.access.Limits;
import dripledger.server.access.SignIns;
import dripledger.server.access.Tokens;
import dripledger.server.access.Trust;
import dripledger.server.records.Journal;
import dripledger.server.records.PostgresAccess;
import dripledger.server.records.Secrets;
import java.io.IOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardOpenOption;
import java.nio.file.attribute.PosixFilePermissions;
import java.util.Locale;
import java.util.Set;
import javax.sql.DataSource;
import org.slf4j.Logger;
import org.slf4j.LoggerFactory;
import org.springframework.beans.factory.annotation.Value;
import org.springframework.boot.sql.init.dependency.DependsOnDatabaseInitialization;
import org.springframework.context.annotation.Bean;
import org.springframework.context.annotation.Configuration;

/** Wires who may do what; makes the owner's first token. */
@Configuration
class AccessConfiguration {
  private static final Logger LOG = LoggerFactory.getLogger(AccessConfiguration.class);

  @Bean(destroyMethod = "close")
  @DependsOnDatabaseInitialization
  Journal journal(DataSource dataSource) {
    return new Journal(dataSource);
  }

  @Bean
  @DependsOnDatabaseInitialization
  PostgresAccess accessRecords(DataSource dataSource, Journal journal) {
    return new PostgresAccess(dataSource, journal);
  }

  @Bean
  Access access(Engine engine) {
    return engine.access();
  }

  @Bean(destroyMethod = "close")
  Tokens tokens(Access access, PostgresAccess records, Secrets secrets, Settings settings) {
    Tokens tokens = new Tokens(access, records, secrets.derived("salts of unknown roles"));
    if (tokens.good(Role.OWNER).isEmpty()) { // at the first start, or if none is left
      Path file =
          settings.ownerTokenFile().isEmpty()
              ? Path.of(settings.secretKeyFile()).resolveSibling("owner.token")
              : Path.of(settings.ownerTokenFile());
      Tokens.Made made = tokens.make(Role.OWNER, "first", null, Role.OWNER);
      try {
        write(file, made.token());
      } catch (RuntimeException e) { // or nobody would ever have one
        tokens.revoke(made.kept().id());
        throw e;
      }
      LOG.info("the owner's token is in {}", file);
    }
    return tokens;
  }

  /** Readable for the user of the service only, from the first byte on. */
  private static void write(Path file, String token) {
    try {
      if (file.toAbsolutePath().getParent() != null) {
        Files.createDirectories(file.toAbsolutePath().getParent());
      }
      Files.deleteIfExists(file);
      Files.newByteChannel(
              file,
              Set.of(StandardOpenOption.CREATE_NEW, StandardOpenOption.WRITE),
              PosixFilePermissions.asFileAttribute(PosixFilePermissions.fromString("rw-------")))
          .close();
      Files.writeString(file, token + "\n");
    } catch (IOException e) {
      throw new IllegalStateException(
          "the owner's token cannot be written to " + file + ": " + e.getMessage(), e);
    }
  }

  @Bean
  SignIns signIns(Tokens tokens) {
    return new SignIns(tokens);
  }

  @Bean
  Limits limits() {
    return new Limits();
  }

  @Bean
  Trust trust(
      Access access, Settings settings, @Value("${server.address:127.0.0.1}") String address) {
    String mode = settings.trustLoopback().toUpperCase(Locale.ROOT).replace('-', '_');
    return new Trust(access, Trust.Mode.valueOf(mode), address);
  }
}
