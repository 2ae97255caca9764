package dripledger.connectors.format;

import java.io.InputStream;
import java.nio.charset.StandardCharsets;
import java.util.UUID;
import java.util.function.Consumer;
import tools.jackson.core.JacksonException;
import tools.jackson.core.JsonParser;
import tools.jackson.core.JsonToken;
import tools.jackson.core.ObjectReadContext;
import tools.jackson.core.json.JsonFactory;

/**
 * One JSON parser for many messages: making a parser costs more than reading a short message. The
 * parser reads a stream that gives one message after the other, each followed by a mark; a message
 * that is not exactly one value leaves the parser somewhere else, and it is made anew. Single
 * thread.
 */
public final class MessageParser {
  /** A parser keeps every field name it has met: what has ever new ones must not fill it. */
  private static final int RENEWED_AFTER = 10_000;

  private final JsonFactory factory;
  private final String mark = UUID.randomUUID().toString();
  private final byte[] markBytes = (" \"" + mark + "\"\n").getBytes(StandardCharsets.US_ASCII);
  private final Messages messages = new Messages();
  private JsonParser parser;
  private int read; // messages that this parser has read

  public MessageParser(JsonFactory factory) {
    this.factory = factory;
  }

  /** The message, then the mark; then nothing until the next message is set. */
  private final class Messages extends InputStream {
    private byte[] bytes = new byte[0];
    private int at;
    private int end;
    private boolean marked = true;

    void next(byte[] message, int from, int length) {
      bytes = message;
      at = from;
      end = from + length;
      marked = false;
    }

    @Override
    public int read() {
      byte[] one = new byte[1];
      return read(one, 0, 1) < 0 ? -1 : one[0] & 0xFF;
    }

    @Override
    public int read(byte[] into, int to, int room) {
      if (at == end && !marked) {
        marked = true;
        bytes = markBytes;
        at = 0;
        end = markBytes.length;
      }
      int length = Math.min(room, end - at);
      if (length == 0) {
        return -1;
      }
      System.arraycopy(bytes, at, into, to, length);
      at += length;
      return length;
    }
  }

  /**
   * Reads one message.
   *
   * @param object is given the parser on the object's first token, and must read it to its end,
   *     also if it throws
   * @return false if the message is not exactly one JSON object; the reason is told by a parser of
   *     its own
   */
  public boolean read(byte[] message, int from, int length, Consumer<JsonParser> object) {
    boolean inStep = false;
    try {
      messages.next(message, from, length);
      if (read == RENEWED_AFTER && parser != null) {
        parser.close(); // gives the names it knows back to the factory, which bounds them
        parser = null;
      }
      if (parser == null) {
        parser = factory.createParser(ObjectReadContext.empty(), messages);
        read = 0;
      }
      read++;
      if (parser.nextToken() != JsonToken.START_OBJECT) {
        return false;
      }
      FormatException refused = null;
      try {
        object.accept(parser);
      } catch (FormatException e) {
        refused = e;
      }
      inStep = parser.nextToken() == JsonToken.VALUE_STRING && mark.equals(parser.getString());
      if (inStep && refused != null) {
        throw refused;
      }
      return inStep;
    } catch (JacksonException e) {
      return false;
    } finally {
      if (!inStep) {
        parser = null;
      }
    }
  }
}
