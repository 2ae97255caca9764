package dripledger.engine.expr;

import java.io.IOException;
import java.nio.charset.StandardCharsets;
import java.nio.file.Files;
import java.nio.file.Path;
import java.security.MessageDigest;
import java.security.NoSuchAlgorithmException;
import java.util.HexFormat;
import java.util.LinkedHashMap;
import java.util.Map;
import org.codehaus.commons.compiler.CompileException;
import org.codehaus.janino.SimpleCompiler;

/**
 * Compiles generated classes in memory. The same source is compiled once as long as it is among the
 * last used ones; its class is named after its digest. Safe from any thread.
 *
 * <p>With the system property {@code drip.generated-code} naming a folder, every source is written
 * there to be read.
 */
public final class GeneratedCode {
  /** Stands for the class's name in a source. */
  public static final String NAME = "GENERATED_NAME";

  private static final String PACKAGE = "dripledger.engine.expr.generated";
  private static final int KEPT = 1000;
  private static final Cache CACHE = new Cache();

  private GeneratedCode() {}

  /** The classes used last, by digest; each has a loader of its own and goes with it. */
  private static final class Cache {
    private final Map<String, Class<?>> classes =
        new LinkedHashMap<>(64, 0.75f, true) {
          private static final long serialVersionUID = 1L;

          @Override
          protected boolean removeEldestEntry(Map.Entry<String, Class<?>> eldest) {
            return size() > KEPT;
          }
        };

    synchronized Class<?> get(String digest) {
      return classes.get(digest);
    }

    synchronized void put(String digest, Class<?> compiled) {
      classes.put(digest, compiled);
    }
  }

  /**
   * Compiles a class.
   *
   * @param kind how its name begins
   * @param body the class without package, {@link #NAME} where its name goes
   */
  public static Class<?> compile(String kind, String body) {
    String digest = digest(body);
    Class<?> known = CACHE.get(digest);
    if (known != null) {
      return known;
    }
    String name = kind + "_" + digest;
    String source = "package " + PACKAGE + ";\n" + body.replace(NAME, name);
    writeOut(name, source);
    try {
      SimpleCompiler compiler = new SimpleCompiler();
      compiler.setParentClassLoader(GeneratedCode.class.getClassLoader());
      compiler.cook(source);
      Class<?> compiled = compiler.getClassLoader().loadClass(PACKAGE + "." + name);
      CACHE.put(digest, compiled);
      return compiled;
    } catch (CompileException | ClassNotFoundException e) {
      throw new IllegalStateException("generated code does not compile:\n" + source, e);
    }
  }

  private static String digest(String body) {
    try {
      byte[] hash =
          MessageDigest.getInstance("SHA-256").digest(body.getBytes(StandardCharsets.UTF_8));
      return HexFormat.of().formatHex(hash, 0, 10);
    } catch (NoSuchAlgorithmException e) {
      throw new IllegalStateException("every Java has SHA-256", e);
    }
  }

  private static void writeOut(String name, String source) {
    String folder = System.getProperty("drip.generated-code");
    if (folder == null) {
      return;
    }
    try {
      Files.createDirectories(Path.of(folder));
      Files.writeString(Path.of(folder, name + ".java"), source);
    } catch (IOException e) {
      throw new IllegalStateException("generated code cannot be written to " + folder, e);
    }
  }
}
