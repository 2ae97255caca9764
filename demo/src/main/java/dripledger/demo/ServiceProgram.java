package dripledger.demo;

import java.io.IOException;
import java.io.InputStream;
import java.io.UncheckedIOException;
import java.nio.file.Files;
import java.nio.file.Path;
import java.nio.file.StandardCopyOption;
import java.nio.file.attribute.FileTime;
import java.security.DigestInputStream;
import java.security.MessageDigest;
import java.security.NoSuchAlgorithmException;
import java.util.ArrayList;
import java.util.Comparator;
import java.util.HexFormat;
import java.util.List;
import java.util.concurrent.TimeUnit;
import java.util.stream.Stream;

/**
 * The service's jar, made quick to start: unpacked once, and its loaded classes kept in a
 * class-data archive after the first start. Both lie in a folder of their own, belong to this very
 * jar and Java, and are made again for another. If they cannot be made, the jar is run as it is.
 * Safe from any thread of one process.
 */
public final class ServiceProgram {
  private static final int SECONDS = 60;

  private final Path jar;
  private final Path archive;

  private ServiceProgram(Path jar, Path archive) {
    this.jar = jar;
    this.archive = archive;
  }

  /** Unpacks the jar beside itself unless that has been done. */
  public static ServiceProgram of(Path jar) throws IOException, InterruptedException {
    return of(jar, jar.toAbsolutePath().resolveSibling("service-run"));
  }

  /**
   * Unpacks the jar unless that has been done.
   *
   * @param all where to
   */
  public static synchronized ServiceProgram of(Path jar, Path all)
      throws IOException, InterruptedException {
    Path folder = all.resolve(fingerprint(jar));
    Path unpacked = folder.resolve(jar.getFileName());
    if (!Files.exists(unpacked)) {
      try {
        deleteOld(all);
        Path fresh = all.resolve("fresh");
        Files.createDirectories(fresh);
        if (!run(
            java("java"),
            "-Djarmode=tools",
            "-jar",
            jar.toString(),
            "extract",
            "--destination",
            fresh.toString())) {
          return new ServiceProgram(jar, null);
        }
        Files.move(fresh, folder, StandardCopyOption.ATOMIC_MOVE);
      } catch (IOException e) { // a folder that may not be written
        return new ServiceProgram(jar, null);
      }
    }
    return new ServiceProgram(unpacked, folder.resolve("classes.jsa"));
  }

  /** The command that runs the service with these options of the Java machine. */
  public List<String> command(String... options) {
    List<String> command = new ArrayList<>(List.of(java("java")));
    command.addAll(List.of(options));
    if (archive != null) {
      command.add("-Xlog:cds*=off"); // thousands of lines about classes that stay out of it
      command.add(
          Files.exists(archive)
              ? "-XX:SharedArchiveFile=" + archive
              : "-XX:+RecordDynamicDumpInfo");
    }
    command.addAll(List.of("-jar", jar.toString()));
    return command;
  }

  /** Whether it starts with the classes of an earlier start, or cannot. */
  public boolean hasClasses() {
    return archive == null || Files.exists(archive);
  }

  /**
   * Keeps the classes that a process of this command has loaded, unless that has been done; takes
   * some seconds, in part of which the process stands still.
   */
  public void keepClasses(long process) throws IOException, InterruptedException {
    if (archive == null) {
      return;
    }
    synchronized (ServiceProgram.class) {
      Path fresh = archive.resolveSibling("fresh.jsa");
      if (!Files.exists(archive)
          && run(java("jcmd"), "" + process, "VM.cds", "dynamic_dump", fresh.toString())
          && Files.exists(fresh)) {
        Files.move(fresh, archive, StandardCopyOption.ATOMIC_MOVE);
      }
    }
  }

  private static boolean run(String... command) throws IOException, InterruptedException {
    Process process =
        new ProcessBuilder(command)
            .redirectErrorStream(true)
            .redirectOutput(ProcessBuilder.Redirect.DISCARD)
            .start();
    if (!process.waitFor(SECONDS, TimeUnit.SECONDS)) {
      process.destroyForcibly();
      return false;
    }
    return process.exitValue() == 0;
  }

  private static String java(String tool) {
    return Path.of(System.getProperty("java.home"), "bin", tool).toString();
  }

  /** Tells this jar and Java from any other. */
  private static String fingerprint(Path jar) throws IOException {
    try {
      MessageDigest digest = MessageDigest.getInstance("SHA-256");
      digest.update(
          System.getProperty("java.vm.version").getBytes(java.nio.charset.StandardCharsets.UTF_8));
      try (InputStream in = new DigestInputStream(Files.newInputStream(jar), digest)) {
        in.transferTo(java.io.OutputStream.nullOutputStream());
      }
      return HexFormat.of().formatHex(digest.digest(), 0, 8);
    } catch (NoSuchAlgorithmException e) {
      throw new IllegalStateException("every Java has SHA-256", e);
    }
  }

  /** All but the last build, which may still be running. */
  private static void deleteOld(Path all) throws IOException {
    if (!Files.isDirectory(all)) {
      return;
    }
    delete(all.resolve("fresh"));
    try (Stream<Path> builds = Files.list(all)) {
      List<Path> oldestLast =
          builds.sorted(Comparator.comparing(ServiceProgram::madeAt).reversed()).toList();
      for (Path build : oldestLast.subList(Math.min(1, oldestLast.size()), oldestLast.size())) {
        delete(build);
      }
    }
  }

  private static FileTime madeAt(Path build) {
    try {
      return Files.getLastModifiedTime(build);
    } catch (IOException e) {
      throw new UncheckedIOException(e);
    }
  }

  private static void delete(Path folder) throws IOException {
    if (Files.exists(folder)) {
      try (Stream<Path> files = Files.walk(folder)) {
        for (Path file : files.sorted(Comparator.reverseOrder()).toList()) {
          Files.delete(file);
        }
      }
    }
  }
}
