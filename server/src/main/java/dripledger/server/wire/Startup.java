package dripledger.server.wire;

import java.io.IOException;
import java.net.Socket;
import java.util.ArrayList;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import javax.net.ssl.SSLContext;
import javax.net.ssl.SSLSocket;

/** How a connection begins: encryption, who it is, or a wish to cancel what another does. */
final class Startup {
  private static final int MOST_BYTES = 10_000;
  private static final int TLS = 80_877_103;
  private static final int GSS = 80_877_104;
  private static final int CANCEL = 80_877_102;

  private final WireServer server;
  private Socket socket;
  private WireInput in;
  private WireOutput out;

  /**
   * Who connects.
   *
   * @param number of the connection
   * @param secret that only its client knows, to cancel by
   * @param settings that came with it
   */
  record Client(int number, int secret, String user, Map<String, String> settings) {}

  Startup(WireServer server, Socket socket) throws IOException {
    this.server = server;
    through(socket);
  }

  private void through(Socket other) throws IOException {
    socket = other;
    WireOutput output = new WireOutput(other.getOutputStream());
    out = output;
    in = new WireInput(other.getInputStream(), output::flush);
  }

  /**
   * Agrees with the client on everything but who it is.
   *
   * @return null if that was all it wanted
   */
  Client hear(int number, int secret) throws IOException {
    while (true) {
      in.nextUntyped(MOST_BYTES);
      int code = in.int32();
      if (code == CANCEL) {
        server.cancel(in.int32(), in.int32());
        return null;
      }
      if (code == TLS || code == GSS) {
        encrypt(code == TLS ? server.tls() : null);
        continue;
      }
      if (code >>> 16 != 3) {
        throw new WireError(
            "0A000", "version " + (code >>> 16) + " of the protocol", "version 3 is spoken here");
      }
      return client(number, secret, code & 0xffff);
    }
  }

  private void encrypt(SSLContext context) throws IOException {
    if (in.hasMore()) {
      throw new WireInput.Malformed("bytes behind the wish to encrypt");
    }
    socket.getOutputStream().write(context == null ? 'N' : 'S');
    socket.getOutputStream().flush();
    if (context != null) {
      SSLSocket encrypted =
          (SSLSocket)
              context
                  .getSocketFactory()
                  .createSocket(socket, socket.getInetAddress().getHostAddress(), 0, true);
      encrypted.setUseClientMode(false);
      encrypted.startHandshake();
      through(encrypted);
    }
  }

  private Client client(int number, int secret, int minor) throws IOException {
    Map<String, String> settings = new HashMap<>();
    List<String> unknown = new ArrayList<>();
    while (in.left() > 1) {
      String name = in.text();
      String value = in.text();
      if (name.startsWith("_pq_.")) {
        unknown.add(name);
      } else if (name.equals("options")) {
        options(value, settings);
      } else {
        settings.put(name, value);
      }
    }
    if (minor > 0 || !unknown.isEmpty()) {
      out.begin('v').int32(0).int32(unknown.size());
      unknown.forEach(out::text);
      out.end();
    }
    String user = settings.remove("user");
    String database = settings.remove("database");
    settings.remove("replication");
    if (user == null || user.isEmpty()) {
      throw new WireError("28000", "the connection says no user", null);
    }
    String name = database == null || database.isEmpty() ? user : database;
    if (!name.equals(server.database())) {
      throw new WireError(
          "3D000",
          "there is no database \"" + name + "\"",
          "the one there is is called \"" + server.database() + "\"");
    }
    return new Client(number, secret, user, settings);
  }

  /** Settings as {@code -c name=value}. */
  private static void options(String text, Map<String, String> settings) {
    String[] words = text.replace("-c", " ").replace("--", " ").trim().split("(?<!\\\\)\\s+");
    for (String word : words) {
      int equals = word.indexOf('=');
      if (equals > 0) {
        settings.put(word.substring(0, equals), word.substring(equals + 1).replace("\\ ", " "));
      }
    }
  }

  Socket socket() {
    return socket;
  }

  boolean isEncrypted() {
    return socket instanceof SSLSocket;
  }

  WireInput in() {
    return in;
  }

  WireOutput out() {
    return out;
  }
}
