package dripledger.server.wire;

import dripledger.engine.access.Access;
import dripledger.engine.access.Caller;
import dripledger.server.access.Scram;
import dripledger.server.access.Tokens;
import dripledger.server.access.Trust;
import dripledger.server.records.PostgresAccess.Kept;
import java.io.IOException;
import java.net.InetAddress;
import java.nio.charset.StandardCharsets;
import java.security.SecureRandom;
import java.util.Base64;
import java.util.List;

/**
 * Finds out who connects, by SCRAM-SHA-256 (RFC 5802) without channel binding: the user is a role,
 * the password any of its tokens. All tokens of a role have its salt, so that it need not be known
 * before which it is.
 */
final class Authentication {
  private static final int MOST_BYTES = 4096;
  private static final int NONCE_BYTES = 18;
  private static final String MECHANISM = "SCRAM-SHA-256";

  private final Access access;
  private final Tokens tokens;
  private final Trust trust;

  Authentication(Access access, Tokens tokens, Trust trust) {
    this.access = access;
    this.tokens = tokens;
    this.trust = trust;
  }

  /** Asks, if that is needed. */
  Caller ask(String user, InetAddress from, WireInput in, WireOutput out) throws IOException {
    Caller unproven = trust.unproven(from);
    if (unproven != null && (user.equals(unproven.role()) || !access.hasRole(user))) {
      return unproven;
    }
    out.begin('R').int32(10).text(MECHANISM).int8(0).end();
    out.flush();
    message(in);
    String mechanism = in.text();
    if (!mechanism.equals(MECHANISM)) {
      throw new WireError("28000", "the way to prove who you are is " + MECHANISM, null);
    }
    in.int32();
    String first = new String(in.rest(), StandardCharsets.UTF_8);
    if (!first.startsWith("n,,") && !first.startsWith("y,,")) {
      throw new WireError("28000", "binding to the channel is not offered", null);
    }
    String bare = first.substring(3);
    String nonce = attribute(bare, 'r') + random();
    String challenge =
        "r="
            + nonce
            + ",s="
            + Base64.getEncoder().encodeToString(tokens.salt(user))
            + ",i="
            + Scram.ROUNDS;
    out.begin('R').int32(11);
    bytes(out, challenge);
    out.end();
    out.flush();
    message(in);
    String last = new String(in.rest(), StandardCharsets.UTF_8);
    int cut = last.lastIndexOf(",p=");
    boolean sound =
        cut > 0
            && attribute(last, 'r').equals(nonce)
            && attribute(last, 'c')
                .equals(
                    Base64.getEncoder()
                        .encodeToString(first.substring(0, 3).getBytes(StandardCharsets.UTF_8)));
    Kept proven = null;
    String said = bare + "," + challenge + "," + (cut > 0 ? last.substring(0, cut) : "");
    if (sound) {
      proven = proven(tokens.good(user), decoded(last.substring(cut + 3)), said);
    }
    if (proven == null) {
      access
          .caller(
              access.hasRole(user) ? user : "nobody", "SQL client from " + from.getHostAddress())
          .note("refused", null, "sign-in");
      throw new WireError(
          "28P01",
          "role \"" + user + "\" has no such token, or it is no longer good",
          "the password of a role is one of its tokens; the owner makes them by drip token");
    }
    out.begin('R').int32(12);
    byte[] signature = Scram.hmac(proven.serverKey(), said);
    bytes(out, "v=" + Base64.getEncoder().encodeToString(signature));
    out.end();
    return tokens.caller(proven, from.getHostAddress());
  }

  private static Kept proven(List<Kept> all, byte[] proof, String said) {
    Kept found = null;
    for (Kept kept : all) { // all of them, so that how long it takes says nothing
      if (Scram.proves(proof, new Scram.Keys(kept.storedKey(), kept.serverKey()), said)) {
        found = kept;
      }
    }
    return found;
  }

  private static byte[] decoded(String base64) {
    try {
      return Base64.getDecoder().decode(base64);
    } catch (IllegalArgumentException e) {
      return new byte[0];
    }
  }

  private static void message(WireInput in) throws IOException {
    if (in.next(MOST_BYTES) != 'p') {
      throw new WireInput.Malformed("an answer that proves who it is was expected");
    }
  }

  private static String attribute(String message, char name) throws WireInput.Malformed {
    for (String part : message.split(",")) {
      if (part.length() >= 2 && part.charAt(0) == name && part.charAt(1) == '=') {
        return part.substring(2);
      }
    }
    throw new WireInput.Malformed("a message of the proof has no " + name);
  }

  private static String random() {
    byte[] random = new byte[NONCE_BYTES];
    new SecureRandom().nextBytes(random);
    return Base64.getEncoder().encodeToString(random);
  }

  private static void bytes(WireOutput out, String text) {
    for (byte b : text.getBytes(StandardCharsets.UTF_8)) {
      out.int8(b);
    }
  }
}
