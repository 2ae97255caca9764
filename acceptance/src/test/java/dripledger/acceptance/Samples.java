package dripledger.acceptance;

import com.google.protobuf.DescriptorProtos.DescriptorProto;
import com.google.protobuf.DescriptorProtos.FieldDescriptorProto;
import com.google.protobuf.DescriptorProtos.FieldDescriptorProto.Type;
import com.google.protobuf.DescriptorProtos.FileDescriptorProto;
import com.google.protobuf.DescriptorProtos.FileDescriptorSet;
import com.google.protobuf.Descriptors.Descriptor;
import com.google.protobuf.Descriptors.FileDescriptor;
import com.google.protobuf.DynamicMessage;
import java.io.ByteArrayOutputStream;
import java.io.IOException;
import java.nio.ByteBuffer;
import java.nio.file.Files;
import java.nio.file.Path;
import org.apache.avro.Schema;
import org.apache.avro.file.DataFileWriter;
import org.apache.avro.generic.GenericData;
import org.apache.avro.generic.GenericDatumWriter;
import org.apache.avro.generic.GenericRecord;
import org.apache.avro.io.BinaryEncoder;
import org.apache.avro.io.EncoderFactory;
import org.apache.parquet.conf.PlainParquetConfiguration;
import org.apache.parquet.example.data.simple.SimpleGroupFactory;
import org.apache.parquet.hadoop.example.ExampleParquetWriter;
import org.apache.parquet.io.LocalOutputFile;
import org.apache.parquet.schema.MessageType;
import org.apache.parquet.schema.MessageTypeParser;

/** Scans as producers of other formats write them. */
final class Samples {
  static final String AVRO =
      """
      {"type":"record","name":"Scan","fields":[
        {"name":"parcel","type":"long"},
        {"name":"gate","type":["null","string"],"default":null},
        {"name":"at","type":{"type":"long","logicalType":"timestamp-millis"}},
        {"name":"scanner","type":{"type":"record","name":"Scanner","fields":[
          {"name":"id","type":"string"},{"name":"battery","type":"double"}]}}]}""";

  /** The same with one field more. */
  static final String AVRO_LATER =
      AVRO.replace(
          "{\"name\":\"scanner\"", "{\"name\":\"grams\",\"type\":\"int\"},{\"name\":\"scanner\"");

  private static final long SIX = 1_772_431_200_000L; // 2026-03-02T06:00:00Z

  private Samples() {}

  private static GenericRecord record(Schema schema, long parcel) {
    GenericRecord scanner = new GenericData.Record(schema.getField("scanner").schema());
    scanner.put("id", "S-" + parcel % 40);
    scanner.put("battery", 0.5);
    GenericRecord scan = new GenericData.Record(schema);
    scan.put("parcel", parcel);
    scan.put("gate", parcel % 5 == 0 ? null : "G0" + parcel % 5);
    scan.put("at", SIX + parcel);
    scan.put("scanner", scanner);
    if (schema.getField("grams") != null) {
      scan.put("grams", (int) (parcel * 10));
    }
    return scan;
  }

  /** One message: a zero byte, the schema's number, the data. */
  static byte[] avro(String schemaText, int number, long parcel) throws IOException {
    Schema schema = new Schema.Parser().parse(schemaText);
    ByteArrayOutputStream out = new ByteArrayOutputStream();
    out.write(0);
    out.write(ByteBuffer.allocate(4).putInt(number).array());
    BinaryEncoder encoder = EncoderFactory.get().binaryEncoder(out, null);
    new GenericDatumWriter<GenericRecord>(schema).write(record(schema, parcel), encoder);
    encoder.flush();
    return out.toByteArray();
  }

  /** An object container file of parcels from 1. */
  static void avroFile(Path file, int records) throws IOException {
    Schema schema = new Schema.Parser().parse(AVRO);
    Path fresh = file.resolveSibling("." + file.getFileName());
    try (DataFileWriter<GenericRecord> writer =
        new DataFileWriter<>(new GenericDatumWriter<>(schema))) {
      writer.create(schema, fresh.toFile());
      for (int i = 1; i <= records; i++) {
        writer.append(record(schema, i));
      }
    }
    Files.move(fresh, file);
  }

  /** A Parquet file of parcels from 1. */
  static void parquetFile(Path file, int records) throws IOException {
    MessageType schema =
        MessageTypeParser.parseMessageType(
            "message scan { required int64 parcel; optional binary gate (STRING);"
                + " required int64 at (TIMESTAMP(MILLIS,true)); optional int32 price (DECIMAL(8,2)); }");
    SimpleGroupFactory groups = new SimpleGroupFactory(schema);
    Path fresh = file.resolveSibling("." + file.getFileName());
    try (var writer =
        ExampleParquetWriter.builder(new LocalOutputFile(fresh))
            .withType(schema)
            .withConf(new PlainParquetConfiguration())
            .build()) {
      for (int i = 1; i <= records; i++) {
        var group = groups.newGroup().append("parcel", (long) i).append("at", SIX + i);
        writer.write(i % 5 == 0 ? group : group.append("gate", "G0" + i % 5).append("price", i));
      }
    }
    Files.move(fresh, file);
  }

  /** Writes the descriptor set of message {@code hub.Scan} and answers its type. */
  static Descriptor protobuf(Path file) throws Exception {
    FileDescriptorProto proto =
        FileDescriptorProto.newBuilder()
            .setName("hub.proto")
            .setPackage("hub")
            .setSyntax("proto3")
            .addMessageType(
                DescriptorProto.newBuilder()
                    .setName("Scanner")
                    .addField(field("id", 1).setType(Type.TYPE_STRING)))
            .addMessageType(
                DescriptorProto.newBuilder()
                    .setName("Scan")
                    .addField(field("parcel", 1).setType(Type.TYPE_INT64))
                    .addField(field("gate", 2).setType(Type.TYPE_STRING))
                    .addField(
                        field("scanner", 3).setType(Type.TYPE_MESSAGE).setTypeName(".hub.Scanner")))
            .build();
    Files.write(file, FileDescriptorSet.newBuilder().addFile(proto).build().toByteArray());
    return FileDescriptor.buildFrom(proto, new FileDescriptor[0]).findMessageTypeByName("Scan");
  }

  private static FieldDescriptorProto.Builder field(String name, int number) {
    return FieldDescriptorProto.newBuilder()
        .setName(name)
        .setNumber(number)
        .setLabel(FieldDescriptorProto.Label.LABEL_OPTIONAL);
  }

  /** One message of {@code hub.Scan}. */
  static byte[] protobuf(Descriptor scan, long parcel) {
    Descriptor scanner = scan.findFieldByName("scanner").getMessageType();
    return DynamicMessage.newBuilder(scan)
        .setField(scan.findFieldByName("parcel"), parcel)
        .setField(scan.findFieldByName("gate"), "G07")
        .setField(
            scan.findFieldByName("scanner"),
            DynamicMessage.newBuilder(scanner)
                .setField(scanner.findFieldByName("id"), "S-31")
                .build())
        .build()
        .toByteArray();
  }
}
