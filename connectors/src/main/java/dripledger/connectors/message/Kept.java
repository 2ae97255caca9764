package dripledger.connectors.message;

import dripledger.connectors.format.FormatException;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.source.KeptMessages;
import java.util.ArrayList;
import java.util.List;
import java.util.Map;
import tools.jackson.core.type.TypeReference;
import tools.jackson.databind.json.JsonMapper;

/** Messages that are kept with the events they said, and read again. Stateless. */
public final class Kept {
  private static final JsonMapper JSON = JsonMapper.builder().build();

  private Kept() {}

  /** Keeps a message of which a row was just appended. */
  public static void keep(Message m, Page into) {
    String headers = m.headers.isEmpty() ? null : JSON.writeValueAsString(m.headers);
    KeptMessages.add(into, m.key, m.value, m.from, m.length, m.position, m.timeMillis, headers);
  }

  /**
   * Reads messages again.
   *
   * @return for each the values of the columns, or null if it says none any more
   */
  public static List<Object[]> again(MessageReader reader, int partition, Page messages) {
    RowLayout layout = new RowLayout(reader.pageSchema());
    List<Object[]> rows = new ArrayList<>();
    Message message = new Message();
    message.partition = partition;
    for (int i = 0; i < messages.size(); i++) {
      byte[] value = KeptMessages.value(messages, i);
      Object[] row = null;
      if (value != null) {
        message.key = KeptMessages.key(messages, i);
        message.value(value);
        message.position = KeptMessages.position(messages, i);
        message.timeMillis = KeptMessages.millis(messages, i);
        String headers = KeptMessages.headers(messages, i);
        message.headers =
            headers == null
                ? Map.of()
                : JSON.readValue(headers, new TypeReference<Map<String, String>>() {});
        Page page = new Page(layout);
        try {
          reader.read(message, page);
          row = BoxedRows.read(layout, page.bytes(), page.start(0));
        } catch (FormatException e) {
          // What the event has is kept as it is; of the new columns it says nothing.
          row = null;
        }
      }
      rows.add(row);
    }
    return rows;
  }
}
