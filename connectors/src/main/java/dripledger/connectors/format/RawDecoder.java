package dripledger.connectors.format;

import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.nio.ByteBuffer;
import java.nio.charset.CharacterCodingException;
import java.nio.charset.StandardCharsets;
import java.util.Set;

/** The whole message as the one column that is not the transport's: text or bytes. */
public final class RawDecoder implements MessageDecoder {
  private final int column;
  private final boolean text;

  public RawDecoder(Schema schema, Set<Integer> left) {
    int found = -1;
    for (int i = 0; i < schema.size(); i++) {
      if (!left.contains(i)) {
        if (found >= 0) {
          throw new FormatException("a raw message has one column; there are more");
        }
        found = i;
      }
    }
    if (found < 0) {
      throw new FormatException("a raw message needs a column to go to");
    }
    column = found;
    Kind kind = schema.type(found).kind();
    if (kind != Kind.VARCHAR && kind != Kind.VARBINARY) {
      throw new FormatException("a raw message is VARCHAR or VARBINARY");
    }
    text = kind == Kind.VARCHAR;
  }

  @Override
  public void decode(byte[] message, int from, int length, RowBuilder into) {
    if (text) {
      try {
        StandardCharsets.UTF_8.newDecoder().decode(ByteBuffer.wrap(message, from, length));
      } catch (CharacterCodingException e) {
        throw new FormatException("the message is not UTF-8 text");
      }
    }
    into.setBytes(column, message, from, length);
  }
}
