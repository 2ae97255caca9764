package dripledger.connectors.format;

import static java.nio.charset.StandardCharsets.UTF_8;
import static org.assertj.core.api.Assertions.assertThat;
import static org.assertj.core.api.Assertions.assertThatThrownBy;

import com.google.protobuf.DescriptorProtos.DescriptorProto;
import com.google.protobuf.DescriptorProtos.FieldDescriptorProto;
import com.google.protobuf.DescriptorProtos.FieldDescriptorProto.Label;
import com.google.protobuf.DescriptorProtos.FieldDescriptorProto.Type;
import com.google.protobuf.DescriptorProtos.FileDescriptorProto;
import com.google.protobuf.DescriptorProtos.FileDescriptorSet;
import com.google.protobuf.DynamicMessage;
import dripledger.connectors.message.Message;
import dripledger.connectors.message.MessageReader;
import dripledger.demo.RegistryStandIn;
import dripledger.engine.catalog.CatalogObject;
import dripledger.engine.catalog.Origins;
import dripledger.engine.catalog.SourceSpec;
import dripledger.engine.row.BoxedRows;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Page;
import dripledger.engine.row.RowLayout;
import dripledger.engine.row.Schema;
import java.io.ByteArrayOutputStream;
import java.math.BigDecimal;
import java.nio.ByteBuffer;
import java.nio.file.Files;
import java.nio.file.Path;
import java.util.ArrayList;
import java.util.Arrays;
import java.util.List;
import java.util.Map;
import org.apache.avro.Conversions;
import org.apache.avro.LogicalTypes;
import org.apache.avro.file.DataFileWriter;
import org.apache.avro.generic.GenericData;
import org.apache.avro.generic.GenericDatumWriter;
import org.apache.avro.generic.GenericRecord;
import org.apache.avro.io.BinaryEncoder;
import org.apache.avro.io.EncoderFactory;
import org.junit.jupiter.api.Test;
import org.junit.jupiter.api.io.TempDir;

class FormatsTest {
  private static final String SCAN_AVRO =
      """
      {"type":"record","name":"Scan","fields":[
        {"name":"parcel","type":"long"},
        {"name":"gate","type":["null","string"],"default":null},
        {"name":"at","type":{"type":"long","logicalType":"timestamp-micros"}},
        {"name":"price","type":{"type":"bytes","logicalType":"decimal","precision":8,"scale":2}},
        {"name":"tags","type":{"type":"array","items":"string"}},
        {"name":"scanner","type":{"type":"record","name":"Scanner","fields":[
          {"name":"id","type":"string"},{"name":"battery","type":"double"}]}}]}""";

  @TempDir Path folder;

  private static CatalogObject.Stream stream(Schema schema, SourceSpec source) {
    return stream(schema, source, Origins.NONE);
  }

  private static CatalogObject.Stream stream(Schema schema, SourceSpec source, Origins origins) {
    return new CatalogObject.Stream(1, "scan", "", schema, -1, 0, origins, source, Map.of());
  }

  private static SourceSpec source(String format, Map<String, String> options) {
    return new SourceSpec("hub_log", 9, options, format);
  }

  private static List<String> rows(Page page) {
    List<String> rows = new ArrayList<>();
    for (int i = 0; i < page.size(); i++) {
      rows.add(Arrays.toString(BoxedRows.read(page.layout(), page.bytes(), page.start(i))));
    }
    return rows;
  }

  private static Page read(CatalogObject object, byte[]... values) {
    MessageReader reader = new MessageReader(object, null);
    Page page = new Page(new RowLayout(reader.pageSchema()));
    for (byte[] value : values) {
      Message message = new Message();
      message.value(value);
      reader.read(message, page);
    }
    return page;
  }

  private static GenericRecord scan(org.apache.avro.Schema schema, long parcel, String gate) {
    GenericRecord scanner = new GenericData.Record(schema.getField("scanner").schema());
    scanner.put("id", "S-31");
    scanner.put("battery", 0.82);
    GenericRecord scan = new GenericData.Record(schema);
    scan.put("parcel", parcel);
    scan.put("gate", gate);
    scan.put("at", 1_772_431_200_120_000L);
    scan.put(
        "price",
        new Conversions.DecimalConversion()
            .toBytes(
                new BigDecimal("12.50"),
                schema.getField("price").schema(),
                LogicalTypes.decimal(8, 2)));
    scan.put("tags", List.of("a", "b"));
    scan.put("scanner", scanner);
    return scan;
  }

  /** Refused before anything is sent. */
  @Test
  void noSecretGoesToARegistryInPlainText() {
    for (String url :
        List.of("http://registry.hub:8081", "HTTP://10.0.0.7/", "http://127.0.0.1.hub/")) {
      SourceSpec source = source("avro", Map.of("registry", url, "topic", "hub.scan"));
      assertThatThrownBy(() -> Formats.declared(source, RegistryLogin.bearer("of the hub")))
          .hasMessage("a secret would be sent to " + url + " in plain text");
    }
  }

  @Test
  void avroMessagesAreReadWithTheSchemaTheyWereWrittenWith() throws Exception {
    org.apache.avro.Schema schema = new org.apache.avro.Schema.Parser().parse(SCAN_AVRO);
    try (RegistryStandIn registry = new RegistryStandIn()) {
      registry.register("other-value", "\"string\"");
      int number = registry.register("hub.scan-value", SCAN_AVRO);
      ByteArrayOutputStream out = new ByteArrayOutputStream();
      out.write(0);
      out.write(ByteBuffer.allocate(4).putInt(number).array());
      BinaryEncoder encoder = EncoderFactory.get().binaryEncoder(out, null);
      new GenericDatumWriter<GenericRecord>(schema).write(scan(schema, 812345, "G07"), encoder);
      encoder.flush();
      SourceSpec source = source("avro", Map.of("registry", registry.url(), "topic", "hub.scan"));
      List<Column> columns = Formats.declared(source, RegistryLogin.NONE);
      assertThat(columns.stream().map(c -> c.name() + " " + c.type()))
          .containsExactly(
              "parcel BIGINT NOT NULL",
              "gate VARCHAR",
              "at TIMESTAMP NOT NULL",
              "price DECIMAL(8, 2) NOT NULL",
              "tags VARCHAR ARRAY NOT NULL",
              "scanner ROW(id VARCHAR, battery DOUBLE) NOT NULL");
      CatalogObject.Stream stream = stream(new Schema(columns), source);
      assertThat(rows(read(stream, out.toByteArray())))
          .containsExactly("[812345, G07, 2026-03-02T06:00:00.120, 12.50, [a, b], [S-31, 0.82]]");
      assertThatThrownBy(() -> read(stream, new byte[] {0, 0, 0, 0, 99, 1}))
          .isInstanceOf(FormatException.class)
          .hasMessageContaining("no schema of number 99");
      assertThatThrownBy(() -> read(stream, new byte[] {1, 2, 3}))
          .hasMessageContaining("no schema number");
      byte[] cut = Arrays.copyOf(out.toByteArray(), 9);
      assertThatThrownBy(() -> read(stream, cut)).hasMessageContaining("broken Avro");
    }
  }

  @Test
  void avroFilesBringTheirSchema() throws Exception {
    org.apache.avro.Schema schema = new org.apache.avro.Schema.Parser().parse(SCAN_AVRO);
    Path file = folder.resolve("scan.avro");
    try (DataFileWriter<GenericRecord> writer =
        new DataFileWriter<>(new GenericDatumWriter<>(schema))) {
      writer.create(schema, file.toFile());
      writer.append(scan(schema, 1, "G01"));
      writer.append(scan(schema, 2, null));
    }
    assertThat(AvroFiles.columns(file)).hasSize(6);
    var records = AvroFiles.read(file);
    assertThat(records.next()).containsEntry("parcel", 1L).containsEntry("gate", "G01");
    assertThat(records.next()).containsEntry("gate", null);
    assertThat(records.hasNext()).isFalse();
  }

  @Test
  void parquetFilesAreReadByTheirSchema() throws Exception {
    org.apache.parquet.schema.MessageType schema =
        org.apache.parquet.schema.MessageTypeParser.parseMessageType(
            """
            message scan {
              required int64 parcel;
              optional binary gate (STRING);
              required int64 at (TIMESTAMP(MICROS,true));
              optional int32 price (DECIMAL(8,2));
            }""");
    Path file = folder.resolve("scan.parquet");
    try (var writer =
        org.apache.parquet.hadoop.example.ExampleParquetWriter.builder(
                new org.apache.parquet.io.LocalOutputFile(file))
            .withType(schema)
            .withConf(new org.apache.parquet.conf.PlainParquetConfiguration())
            .build()) {
      var groups = new org.apache.parquet.example.data.simple.SimpleGroupFactory(schema);
      writer.write(
          groups
              .newGroup()
              .append("parcel", 7L)
              .append("gate", "G07")
              .append("at", 1_772_431_200_000_000L)
              .append("price", 1250));
      writer.write(groups.newGroup().append("parcel", 8L).append("at", 0L));
    }
    assertThat(ParquetFiles.columns(file).stream().map(c -> c.name() + " " + c.type()))
        .containsExactly(
            "parcel BIGINT NOT NULL",
            "gate VARCHAR",
            "at TIMESTAMP NOT NULL",
            "price DECIMAL(8, 2)");
    var records = ParquetFiles.read(file);
    assertThat(records.next().values())
        .map(String::valueOf)
        .containsExactly("7", "G07", "2026-03-02T06:00", "12.50");
    assertThat(records.next()).containsEntry("gate", null).containsEntry("price", null);
    assertThat(records.hasNext()).isFalse();
  }

  @Test
  void protobufMessagesAreReadByTheirDescriptor() throws Exception {
    FileDescriptorProto proto =
        FileDescriptorProto.newBuilder()
            .setName("hub.proto")
            .setPackage("hub")
            .setSyntax("proto3")
            .addMessageType(
                DescriptorProto.newBuilder()
                    .setName("Scan")
                    .addField(field("parcel", 1, Type.TYPE_INT64, Label.LABEL_OPTIONAL))
                    .addField(field("gate", 2, Type.TYPE_STRING, Label.LABEL_OPTIONAL))
                    .addField(field("tags", 3, Type.TYPE_STRING, Label.LABEL_REPEATED)))
            .build();
    Path file = folder.resolve("hub.desc");
    Files.write(file, FileDescriptorSet.newBuilder().addFile(proto).build().toByteArray());
    SourceSpec source =
        source("protobuf", Map.of("descriptor", file.toString(), "message", "hub.Scan"));
    Schema schema = new Schema(Formats.declared(source, RegistryLogin.NONE));
    assertThat(schema.columns().stream().map(c -> c.name() + " " + c.type()))
        .containsExactly("parcel BIGINT NOT NULL", "gate VARCHAR NOT NULL", "tags VARCHAR ARRAY");
    var type = ProtobufDecoder.descriptor(file, "hub.Scan");
    DynamicMessage message =
        DynamicMessage.newBuilder(type)
            .setField(type.findFieldByName("parcel"), 7L)
            .setField(type.findFieldByName("gate"), "G07")
            .addRepeatedField(type.findFieldByName("tags"), "x")
            .build();
    CatalogObject.Stream stream = stream(schema, source);
    assertThat(rows(read(stream, message.toByteArray()))).containsExactly("[7, G07, [x]]");
    assertThatThrownBy(() -> read(stream, new byte[] {10, 50, 1}))
        .hasMessageContaining("broken Protobuf");
    assertThatThrownBy(() -> ProtobufDecoder.descriptor(file, "hub.Parcel"))
        .hasMessageContaining("there are [hub.Scan]");
  }

  private static FieldDescriptorProto field(String name, int number, Type type, Label label) {
    return FieldDescriptorProto.newBuilder()
        .setName(name)
        .setNumber(number)
        .setType(type)
        .setLabel(label)
        .build();
  }

  @Test
  void csvAndRawMessages() {
    Schema two =
        Schema.of(
            new Column("gate", ColumnType.varchar(3)),
            new Column("n", ColumnType.of(Kind.INTEGER)));
    CatalogObject.Stream csv = stream(two, source("csv", Map.of()));
    assertThat(rows(read(csv, "\"G,1\",5".getBytes(UTF_8), ",".getBytes(UTF_8))))
        .containsExactly("[G,1, 5]", "[null, null]");
    assertThatThrownBy(() -> read(csv, "G007,5".getBytes(UTF_8)))
        .hasMessageContaining("longer than");
    CatalogObject.Stream named = stream(two, source("csv", Map.of("header", "n, other, gate")));
    assertThat(rows(read(named, "5,x,G07".getBytes(UTF_8)))).containsExactly("[G07, 5]");
    Schema body = Schema.of(new Column("body", ColumnType.varchar(-1)));
    assertThat(rows(read(stream(body, source("text", Map.of())), "hä".getBytes(UTF_8))))
        .containsExactly("[hä]");
    assertThatThrownBy(
            () -> read(stream(body, source("text", Map.of())), new byte[] {(byte) 0xFF, 1}))
        .hasMessageContaining("not UTF-8");
    assertThatThrownBy(() -> read(stream(two, source("text", Map.of()))))
        .hasMessageContaining("one column");
  }

  @Test
  void fieldsInsideOfObjectsFillColumns() throws Exception {
    Schema schema =
        Schema.of(
            new Column("parcel", ColumnType.of(Kind.BIGINT)),
            new Column("scanner_id", ColumnType.varchar(-1)),
            new Column("battery", ColumnType.of(Kind.DOUBLE)),
            new Column("lot", ColumnType.varchar(-1)));
    Origins origins =
        Origins.NONE
            .with(1, null, Origins.parse("$.scanner.id"))
            .with(2, null, Origins.parse("lax $.scanner.power.\"Battery Left\""))
            .with(3, null, List.of("Lot"));
    DriftLog drift = new DriftLog(List.of());
    MessageReader reader =
        new MessageReader(stream(schema, source("json", Map.of()), origins), drift);
    Page page = new Page(new RowLayout(reader.pageSchema()));
    Message message = new Message();
    for (String text :
        List.of(
            "{\"scanner\":{\"id\":\"S-31\",\"power\":{\"Battery Left\":0.5,\"volts\":5}},\"parcel\":1,\"Lot\":\"a\"}",
            "{\"parcel\":2,\"scanner\":null,\"lot\":\"b\"}",
            "{\"scanner\":{\"power\":{}},\"parcel\":3}")) {
      message.value(text.getBytes(UTF_8));
      reader.read(message, page);
    }
    assertThat(rows(page))
        .containsExactly("[1, S-31, 0.5, a]", "[2, null, null, null]", "[3, null, null, null]");
    assertThat(drift.all().stream().map(d -> d.field() + " = " + d.example()))
        .containsExactlyInAnyOrder("scanner.power.volts = 5", "lot = \"b\"");
    message.value("{\"parcel\":4,\"scanner\":\"S-31\"}".getBytes(UTF_8));
    assertThatThrownBy(() -> reader.read(message, page))
        .hasMessage("field scanner: \"S-31\" is not an object");
    reader.readPlain(
        Map.of("parcel", 5L, "scanner", Map.of("id", "S-2", "power", Map.of("Battery Left", 1.0))),
        message,
        page);
    assertThat(rows(page)).last().isEqualTo("[5, S-2, 1.0, null]");
    MessageReader csv =
        new MessageReader(
            stream(
                Schema.of(schema.column(0), schema.column(3)),
                source("csv", Map.of("header", "Lot,parcel")),
                Origins.NONE.with(1, null, List.of("Lot"))),
            null);
    Page lines = new Page(new RowLayout(csv.pageSchema()));
    message.value("x,6".getBytes(UTF_8));
    csv.read(message, lines);
    assertThat(rows(lines)).containsExactly("[6, x]");
  }

  @Test
  void pathsAreReadAndWritten() {
    for (String path : List.of("$.scanner.id", "$.\"Scanner Id\".x", "$.\"a\\\"b\"", "$.größe")) {
      assertThat(Origins.text(Origins.parse(path))).isEqualTo(path);
    }
    for (String wrong : List.of("scanner.id", "$", "$.", "$.a[0]", "$.a.", "$..a", "strict $.a")) {
      assertThatThrownBy(() -> Origins.parse(wrong)).hasMessageContaining("is not a path");
    }
  }

  @Test
  void whatAMessageLooksLike() {
    assertThat(Formats.recognise("{\"a\":1}".getBytes(UTF_8))).isEqualTo("json");
    assertThat(Formats.recognise("{\"a\":".getBytes(UTF_8))).isEqualTo("broken json");
    assertThat(Formats.recognise("a,b".getBytes(UTF_8))).isEqualTo("csv");
    assertThat(Formats.recognise("hello".getBytes(UTF_8))).isEqualTo("text");
    assertThat(Formats.recognise(new byte[] {0, 0, 0, 0, 1, 4})).isEqualTo("avro");
    assertThat(Formats.recognise(new byte[] {1, 2})).isEqualTo("bytes");
  }

  @Test
  void whatLeavesTheDeclarationIsNoticed() {
    Schema schema =
        Schema.of(
            new Column("gate", ColumnType.varchar(-1)),
            new Column("n", ColumnType.of(Kind.INTEGER)));
    DriftLog drift = new DriftLog(List.of());
    drift.at(() -> "here");
    JsonDecoder decoder = new JsonDecoder(schema, Origins.NONE, drift);
    RowBuilder row = new RowBuilder(schema);
    for (String text :
        List.of("{\"gate\":\"a\",\"colour\":\"red\"}", "{\"colour\":\"blue\"}", "{\"n\":\"x\"}")) {
      try {
        row.clear();
        decoder.decode(text.getBytes(UTF_8), 0, text.length(), row);
      } catch (FormatException e) {
        assertThat(e).hasMessage("column n: \"x\" is not of type INTEGER");
      }
    }
    assertThat(drift.all().stream().map(d -> d.field() + " " + d.what() + " " + d.count()))
        .containsExactlyInAnyOrder("colour new field 2", "n type 1");
    assertThat(drift.all().get(0).example()).isEqualTo("\"red\"");
    assertThat(drift.all().get(0).origin()).isEqualTo("here");
    DriftLog later = new DriftLog(drift.all());
    assertThat(later.known("colour")).isTrue();
    assertThat(later.all().get(0).count()).isEqualTo(3);
    later.declared(java.util.Set.of("colour"));
    assertThat(later.all().stream().map(d -> d.field())).containsExactly("n");
  }
}
