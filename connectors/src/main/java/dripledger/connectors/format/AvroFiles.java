package dripledger.connectors.format;

import dripledger.engine.row.Column;
import java.io.Closeable;
import java.io.IOException;
import java.nio.file.Path;
import java.util.Iterator;
import java.util.List;
import java.util.Map;
import org.apache.avro.file.DataFileReader;
import org.apache.avro.generic.GenericDatumReader;
import org.apache.avro.generic.GenericRecord;

/** Avro object container files. Stateless. */
public final class AvroFiles {
  private AvroFiles() {}

  /** The records of a file as plain values; the iterator is to be closed. */
  public static Iterator<Map<String, Object>> read(Path file) throws IOException {
    return new Records(new DataFileReader<>(file.toFile(), new GenericDatumReader<>()));
  }

  /** The columns the file's schema says. */
  public static List<Column> columns(Path file) throws IOException {
    try (DataFileReader<GenericRecord> reader =
        new DataFileReader<>(file.toFile(), new GenericDatumReader<>())) {
      return AvroValues.columns(reader.getSchema());
    }
  }

  private record Records(DataFileReader<GenericRecord> reader)
      implements Iterator<Map<String, Object>>, Closeable {
    @Override
    public boolean hasNext() {
      return reader.hasNext();
    }

    @Override
    public Map<String, Object> next() {
      return AvroValues.record(reader.next());
    }

    @Override
    public void close() throws IOException {
      reader.close();
    }
  }
}
