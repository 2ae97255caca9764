package dripledger.server.wire;

import java.util.Locale;
import java.util.Map;
import java.util.TreeMap;
import java.util.regex.Matcher;
import java.util.regex.Pattern;

/** What a client can set for its connection, and what it can ask for. One thread. */
final class SessionVariables {
  private static final Pattern MILLIS =
      Pattern.compile("\\s*(\\d{1,12})\\s*(us|ms|s|min|h|d)?\\s*");

  /** Those that clients are told of when they change. */
  private static final java.util.Set<String> REPORTED =
      java.util.Set.of(
          "application_name",
          "client_encoding",
          "DateStyle",
          "TimeZone",
          "IntervalStyle",
          "standard_conforming_strings",
          "default_transaction_read_only");

  private final Map<String, String> defaults = new TreeMap<>(String.CASE_INSENSITIVE_ORDER);
  private final Map<String, String> values = new TreeMap<>(String.CASE_INSENSITIVE_ORDER);
  private final Map<String, String> names = new TreeMap<>(String.CASE_INSENSITIVE_ORDER);

  /**
   * @param role whose connection it is
   */
  SessionVariables(String serverVersion, String role) {
    Map<String, String> all =
        Map.ofEntries(
            Map.entry("server_version", serverVersion),
            Map.entry("server_encoding", "UTF8"),
            Map.entry("client_encoding", "UTF8"),
            Map.entry("DateStyle", "ISO, MDY"),
            Map.entry("TimeZone", "UTC"),
            Map.entry("IntervalStyle", "postgres"),
            Map.entry("integer_datetimes", "on"),
            Map.entry("standard_conforming_strings", "on"),
            Map.entry("application_name", ""),
            Map.entry("extra_float_digits", "1"),
            Map.entry("bytea_output", "hex"),
            Map.entry("search_path", "\"$user\", public"),
            Map.entry("client_min_messages", "notice"),
            Map.entry("statement_timeout", "0"),
            Map.entry("lock_timeout", "0"),
            Map.entry("idle_in_transaction_session_timeout", "0"),
            Map.entry("transaction_isolation", "read committed"),
            Map.entry("default_transaction_isolation", "read committed"),
            Map.entry("default_transaction_read_only", "off"),
            Map.entry("transaction_read_only", "off"),
            Map.entry("default_transaction_deferrable", "off"),
            Map.entry("is_superuser", "off"),
            Map.entry("in_hot_standby", "off"),
            Map.entry("row_security", "off"),
            Map.entry("geqo", "off"),
            Map.entry("max_identifier_length", "256"),
            Map.entry("session_authorization", role),
            Map.entry("lc_collate", "C"),
            Map.entry("lc_ctype", "C"),
            Map.entry("lc_monetary", "C"));
    defaults.putAll(all);
    all.keySet().forEach(name -> names.put(name, name));
  }

  /** The name as it is told, of any case. */
  static boolean isReported(String name) {
    return REPORTED.contains(name);
  }

  String nameOf(String name) {
    return names.getOrDefault(name, name);
  }

  /**
   * The value of one.
   *
   * @throws WireError if there is none of this name
   */
  String get(String name) {
    String value = values.getOrDefault(name, defaults.get(name));
    if (value == null) {
      throw new WireError(
          "42704", "there is no setting \"" + name + "\"", "SHOW ALL lists those there are");
    }
    return value;
  }

  /** Gives one its first value back. */
  void reset(String name) {
    get(name);
    values.remove(name);
  }

  void resetAll() {
    values.clear();
  }

  Map<String, String> all() {
    Map<String, String> all = new TreeMap<>(String.CASE_INSENSITIVE_ORDER);
    names.values().forEach(name -> all.put(name, get(name)));
    return all;
  }

  /**
   * Sets one.
   *
   * @throws WireError if there is none of this name, or it cannot be this
   */
  void set(String name, String value) {
    get(name);
    String key = nameOf(name);
    switch (key) {
      case "client_encoding" -> {
        String plain = value.toUpperCase(Locale.ROOT).replaceAll("[^A-Z0-9]", "");
        // Who says SQL_ASCII, as clients do without a locale, takes the bytes as they come.
        boolean asItIs = plain.equals("SQLASCII");
        if (!asItIs && !plain.equals("UTF8") && !plain.equals("UNICODE")) {
          throw cannotBe(key, value, "text is UTF8 here");
        }
        values.put(key, asItIs ? "SQL_ASCII" : "UTF8");
      }
      case "DateStyle" -> {
        if (!value.toUpperCase(Locale.ROOT).startsWith("ISO")) {
          throw cannotBe(key, value, "dates are written the ISO way here");
        }
        values.put(key, "ISO, MDY");
      }
      case "statement_timeout", "lock_timeout", "idle_in_transaction_session_timeout" ->
          values.put(key, String.valueOf(millis(key, value)));
      case "standard_conforming_strings", "integer_datetimes" -> {
        if (!isOn(value)) {
          throw cannotBe(key, value, "it is on");
        }
      }
      case "server_version", "server_encoding", "is_superuser", "session_authorization" ->
          throw new WireError("55P02", "\"" + key + "\" cannot be changed", null);
      case "default_transaction_isolation" -> values.put(key, value.toLowerCase(Locale.ROOT));
      default -> values.put(key, value);
    }
  }

  private static WireError cannotBe(String name, String value, String hint) {
    return new WireError("22023", "\"" + name + "\" cannot be \"" + value + "\"", hint);
  }

  static boolean isOn(String value) {
    return switch (value.toLowerCase(Locale.ROOT)) {
      case "on", "true", "yes", "1", "t", "y" -> true;
      default -> false;
    };
  }

  /** A time setting in milliseconds. */
  long millis(String name) {
    return millis(name, get(name));
  }

  private static long millis(String name, String value) {
    Matcher m = MILLIS.matcher(value);
    if (!m.matches()) {
      throw cannotBe(name, value, "write milliseconds, or a number with ms, s, min or h");
    }
    long number = Long.parseLong(m.group(1));
    if (m.group(2) == null) {
      return number;
    }
    return switch (m.group(2)) {
      case "us" -> number / 1000;
      case "s" -> number * 1000;
      case "min" -> number * 60_000;
      case "h" -> number * 3_600_000;
      case "d" -> number * 86_400_000;
      default -> number;
    };
  }
}
