package dripledger.engine.row;

import java.util.List;
import java.util.stream.IntStream;

/** The ordered columns of a relation; immutable. */
public record Schema(List<Column> columns) {
  public Schema {
    columns = List.copyOf(columns);
  }

  public static Schema of(Column... columns) {
    return new Schema(List.of(columns));
  }

  public int size() {
    return columns.size();
  }

  public Column column(int index) {
    return columns.get(index);
  }

  public ColumnType type(int index) {
    return columns.get(index).type();
  }

  /** The index of the column with this exact name, or −1. */
  public int indexOf(String name) {
    for (int i = 0; i < columns.size(); i++) {
      if (columns.get(i).name().equals(name)) {
        return i;
      }
    }
    return -1;
  }

  public List<String> names() {
    return columns.stream().map(Column::name).toList();
  }

  public Schema project(int[] indexes) {
    return new Schema(IntStream.of(indexes).mapToObj(columns::get).toList());
  }
}
