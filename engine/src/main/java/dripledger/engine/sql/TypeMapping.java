package dripledger.engine.sql;

import dripledger.engine.error.EngineException;
import dripledger.engine.row.Column;
import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.engine.row.Schema;
import java.util.HashMap;
import java.util.List;
import java.util.Map;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rel.type.RelDataTypeField;
import org.apache.calcite.rel.type.RelProtoDataType;
import org.apache.calcite.rel.type.StructKind;
import org.apache.calcite.sql.SqlBasicTypeNameSpec;
import org.apache.calcite.sql.SqlDataTypeSpec;
import org.apache.calcite.sql.parser.SqlParserPos;
import org.apache.calcite.sql.type.SqlTypeName;

/** Between the SQL library's types and ours. CHAR is VARCHAR here: we do not pad. */
final class TypeMapping {
  /** Digits behind the point of a NUMERIC whose precision is not said. */
  private static final int SCALE = 12;

  private TypeMapping() {}

  /**
   * A type as it is meant: NUMERIC and DECIMAL without a precision hold fractions, where the
   * library would round to whole numbers.
   */
  static SqlDataTypeSpec known(SqlDataTypeSpec type) {
    if (!(type.getTypeNameSpec() instanceof SqlBasicTypeNameSpec name)
        || !name.getTypeName().getSimple().equals(SqlTypeName.DECIMAL.getName())
        || name.getPrecision() >= 0) {
      return type;
    }
    SqlParserPos pos = type.getParserPosition();
    return new SqlDataTypeSpec(
        new SqlBasicTypeNameSpec(SqlTypeName.DECIMAL, 38, SCALE, pos),
        type.getTimeZone(),
        type.getNullable(),
        pos);
  }

  /**
   * @throws EngineException (NOT_SUPPORTED) for types we have no bytes for
   */
  static ColumnType fromSql(RelDataType type) {
    ColumnType mapped =
        switch (type.getSqlTypeName()) {
          case BOOLEAN -> ColumnType.of(Kind.BOOLEAN);
          case TINYINT, SMALLINT -> ColumnType.of(Kind.SMALLINT);
          case INTEGER -> ColumnType.of(Kind.INTEGER);
          case BIGINT -> ColumnType.of(Kind.BIGINT);
          case REAL -> ColumnType.of(Kind.REAL);
          case FLOAT, DOUBLE -> ColumnType.of(Kind.DOUBLE);
          case DECIMAL -> ColumnType.decimal(type.getPrecision(), type.getScale());
          case CHAR, VARCHAR ->
              ColumnType.varchar(
                  type.getPrecision() == RelDataType.PRECISION_NOT_SPECIFIED
                      ? -1
                      : type.getPrecision());
          case BINARY, VARBINARY -> ColumnType.of(Kind.VARBINARY);
          case DATE -> ColumnType.of(Kind.DATE);
          case TIME -> ColumnType.of(Kind.TIME);
          case TIMESTAMP -> ColumnType.of(Kind.TIMESTAMP);
          case NULL -> ColumnType.varchar(-1);
          case ROW ->
              ColumnType.row(
                  type.getFieldList().stream()
                      .map(f -> new Column(f.getName(), fromSql(f.getType())))
                      .toList());
          case ARRAY -> ColumnType.array(fromSql(type.getComponentType()));
          default -> {
            if (SqlTypeName.YEAR_INTERVAL_TYPES.contains(type.getSqlTypeName())) {
              yield ColumnType.of(Kind.INTERVAL_YEAR_MONTH);
            }
            if (SqlTypeName.DAY_INTERVAL_TYPES.contains(type.getSqlTypeName())) {
              yield ColumnType.of(Kind.INTERVAL_DAY_TIME);
            }
            throw new EngineException(
                EngineException.Code.NOT_SUPPORTED,
                "not supported yet: values of type " + type.getSqlTypeName());
          }
        };
    return mapped.withNullable(type.isNullable());
  }

  /** Names of types that PostgreSQL has beside the standard's. */
  static Map<String, RelProtoDataType> aliases() {
    Map<String, RelProtoDataType> aliases = new HashMap<>();
    aliases.put("text", f -> f.createSqlType(SqlTypeName.VARCHAR));
    aliases.put("string", f -> f.createSqlType(SqlTypeName.VARCHAR));
    aliases.put("json", f -> f.createSqlType(SqlTypeName.VARCHAR));
    aliases.put("int2", f -> f.createSqlType(SqlTypeName.SMALLINT));
    aliases.put("int4", f -> f.createSqlType(SqlTypeName.INTEGER));
    aliases.put("int8", f -> f.createSqlType(SqlTypeName.BIGINT));
    aliases.put("float4", f -> f.createSqlType(SqlTypeName.REAL));
    aliases.put("float8", f -> f.createSqlType(SqlTypeName.DOUBLE));
    aliases.put("bool", f -> f.createSqlType(SqlTypeName.BOOLEAN));
    aliases.put("bytea", f -> f.createSqlType(SqlTypeName.VARBINARY));
    return aliases;
  }

  static Schema schema(RelDataType rowType) {
    List<RelDataTypeField> fields = rowType.getFieldList();
    return new Schema(
        fields.stream().map(f -> new Column(f.getName(), fromSql(f.getType()))).toList());
  }

  static RelDataType toSql(RelDataTypeFactory factory, ColumnType type) {
    RelDataType mapped =
        switch (type.kind()) {
          case BOOLEAN -> factory.createSqlType(SqlTypeName.BOOLEAN);
          case SMALLINT -> factory.createSqlType(SqlTypeName.SMALLINT);
          case INTEGER -> factory.createSqlType(SqlTypeName.INTEGER);
          case BIGINT -> factory.createSqlType(SqlTypeName.BIGINT);
          case REAL -> factory.createSqlType(SqlTypeName.REAL);
          case DOUBLE -> factory.createSqlType(SqlTypeName.DOUBLE);
          case DECIMAL ->
              factory.createSqlType(SqlTypeName.DECIMAL, type.precision(), type.scale());
          case VARCHAR ->
              type.precision() < 0
                  ? factory.createSqlType(SqlTypeName.VARCHAR)
                  : factory.createSqlType(SqlTypeName.VARCHAR, type.precision());
          case VARBINARY -> factory.createSqlType(SqlTypeName.VARBINARY);
          case DATE -> factory.createSqlType(SqlTypeName.DATE);
          case TIME -> factory.createSqlType(SqlTypeName.TIME, 6);
          case TIMESTAMP -> factory.createSqlType(SqlTypeName.TIMESTAMP, 6);
          case INTERVAL_DAY_TIME -> factory.createSqlType(SqlTypeName.INTERVAL_DAY_SECOND);
          case INTERVAL_YEAR_MONTH -> factory.createSqlType(SqlTypeName.INTERVAL_YEAR_MONTH);
          case ROW -> rowType(factory, new Schema(type.fields()), StructKind.FULLY_QUALIFIED);
          case ARRAY -> factory.createArrayType(toSql(factory, type.element()), -1);
        };
    return factory.createTypeWithNullability(mapped, type.nullable());
  }

  static RelDataType rowType(RelDataTypeFactory factory, Schema schema, StructKind kind) {
    return factory.createStructType(
        kind,
        schema.columns().stream().map(c -> toSql(factory, c.type())).toList(),
        schema.columns().stream().map(Column::name).toList());
  }
}
