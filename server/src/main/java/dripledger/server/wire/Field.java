package dripledger.server.wire;

import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import java.io.IOException;
import java.util.List;

/**
 * A column of an answer.
 *
 * @param table the number of the table it is from as clients know it, 0 if it is computed
 * @param place of the column in that table, from 1 on; 0 if it is computed
 * @param ours its type as the engine has it; null if it is not ours
 */
record Field(String name, int table, int place, WireType type, ColumnType ours) {
  static Field of(Column column) {
    return new Field(column.name(), 0, 0, WireType.of(column.type()), column.type());
  }

  static List<Field> of(List<Column> columns) {
    return columns.stream().map(Field::of).toList();
  }

  /** A column of text. */
  static Field text(String name) {
    return new Field(
        name, 0, 0, new WireType(WireType.TEXT, -1, -1), ColumnType.of(ColumnType.Kind.VARCHAR));
  }

  /** Tells the client the columns of an answer. */
  static void describe(WireOutput out, List<Field> fields, Formats formats) throws IOException {
    out.begin('T').int16(fields.size());
    for (int i = 0; i < fields.size(); i++) {
      Field f = fields.get(i);
      out.text(f.name.isEmpty() ? "?column?" : f.name).int32(f.table).int16(f.place);
      out.int32(f.type.oid()).int16(f.type.size()).int32(f.type.modifier());
      out.int16(formats.isBinary(i) ? 1 : 0);
    }
    out.end();
  }
}
