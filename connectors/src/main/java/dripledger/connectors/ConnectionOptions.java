package dripledger.connectors;

import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.error.EngineException;
import dripledger.engine.error.EngineException.Code;
import java.net.URI;
import java.net.URISyntaxException;
import java.nio.file.Path;
import java.util.Set;
import java.util.TreeSet;
import java.util.function.UnaryOperator;

/** The options of a connection with its secrets put in; never printed. */
public final class ConnectionOptions {
  private final CatalogObject.Connection connection;
  private final UnaryOperator<String> secrets;
  private final Path waiting;

  /**
   * @param secrets answers the value of a secret, or null
   * @param waiting the folder for what waits on disk
   */
  public ConnectionOptions(
      CatalogObject.Connection connection, UnaryOperator<String> secrets, Path waiting) {
    this.connection = connection;
    this.secrets = secrets;
    this.waiting = waiting;
  }

  /** The folder for what waits on disk. */
  public Path waiting() {
    return waiting;
  }

  /** The connection's name. */
  public String name() {
    return connection.name();
  }

  /** An option's value, or null. */
  public String get(String option) {
    CatalogObject.Connection.Option value = connection.options().get(option);
    if (value == null || !value.secret()) {
      return value == null ? null : value.text();
    }
    String secret = secrets.apply(value.text());
    if (secret == null) {
      throw invalid(
          "there is no secret \"" + value.text() + "\" for option \"" + option + "\"",
          "set it first: drip secret set " + value.text());
    }
    return secret;
  }

  /** Whether an option is given as a secret. */
  public boolean isSecret(String option) {
    CatalogObject.Connection.Option value = connection.options().get(option);
    return value != null && value.secret();
  }

  /**
   * The option url, an address of the web without user and query.
   *
   * @param example for who has left it out
   */
  public URI webAddress(String example) {
    String url = required("url", example);
    try {
      URI uri = new URI(url);
      boolean web = "http".equals(uri.getScheme()) || "https".equals(uri.getScheme());
      if (web && uri.getHost() != null && uri.getUserInfo() == null && uri.getQuery() == null) {
        return uri;
      }
    } catch (URISyntaxException e) {
      // said below
    }
    throw invalid(
        "option \"url\" must be http://HOST:PORT/PATH or https://…, without user and query", null);
  }

  public String get(String option, String otherwise) {
    String value = get(option);
    return value == null ? otherwise : value;
  }

  /**
   * Whether an option is on; what is neither on nor off is refused, so that nobody believes to be
   * protected and is not.
   */
  public boolean isOn(String option) {
    String value = get(option, "off");
    if (!value.equals("on") && !value.equals("off")) {
      throw invalid("option \"" + option + "\" is 'on' or 'off', not '" + value + "'", null);
    }
    return value.equals("on");
  }

  /** The value of an option that must be there. */
  public String required(String option, String example) {
    String value = get(option);
    if (value == null) {
      throw invalid(
          "a connection of type " + connection.type() + " needs the option " + option,
          "add " + option + " " + example + " to OPTIONS");
    }
    return value;
  }

  /** Refuses options that mean nothing, and passwords in plain sight. */
  public void allowOnly(Set<String> known) {
    check(connection.options().keySet(), known, "a connection of type " + connection.type());
    CatalogObject.Connection.Option password = connection.options().get("password");
    if (password != null && !password.secret()) {
      throw invalid(
          "option \"password\" would keep a secret in plain text",
          "drip secret set NAME, then write password SECRET NAME");
    }
  }

  /** Refuses options that mean nothing. */
  public static void check(Set<String> given, Set<String> known, String of) {
    for (String option : given) {
      if (!known.contains(option)) {
        throw invalid(
            of + " has no option \"" + option + "\"",
            "there are " + String.join(", ", new TreeSet<>(known)));
      }
    }
  }

  /** An option of a clause that is a number from 1 to some other. */
  public static int count(SourceSpec clause, String option, int otherwise, int most) {
    String text = clause.option(option, "" + otherwise);
    try {
      int count = Integer.parseInt(text);
      if (count >= 1 && count <= most) {
        return count;
      }
    } catch (NumberFormatException e) {
      // said below
    }
    throw invalid(
        "option \"" + option + "\": '" + text + "' is not a number from 1 to " + most, null);
  }

  static EngineException invalid(String message, String hint) {
    return new EngineException(Code.INVALID, message, hint);
  }
}
