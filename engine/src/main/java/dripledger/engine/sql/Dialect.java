package dripledger.engine.sql;

import dripledger.grammar.parser.DripParser;
import java.math.RoundingMode;
import java.nio.charset.Charset;
import java.nio.charset.StandardCharsets;
import java.util.ArrayList;
import java.util.EnumSet;
import java.util.List;
import java.util.Locale;
import org.apache.calcite.avatica.util.Casing;
import org.apache.calcite.avatica.util.Quoting;
import org.apache.calcite.config.NullCollation;
import org.apache.calcite.jdbc.JavaTypeFactoryImpl;
import org.apache.calcite.rel.type.DelegatingTypeSystem;
import org.apache.calcite.rel.type.RelDataType;
import org.apache.calcite.rel.type.RelDataTypeFactory;
import org.apache.calcite.rel.type.RelDataTypeSystem;
import org.apache.calcite.sql.SqlCallBinding;
import org.apache.calcite.sql.SqlFunction;
import org.apache.calcite.sql.SqlFunctionCategory;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlOperandCountRange;
import org.apache.calcite.sql.SqlOperator;
import org.apache.calcite.sql.SqlOperatorTable;
import org.apache.calcite.sql.SqlSyntax;
import org.apache.calcite.sql.fun.SqlLibrary;
import org.apache.calcite.sql.fun.SqlLibraryOperatorTableFactory;
import org.apache.calcite.sql.parser.SqlParser;
import org.apache.calcite.sql.type.OperandTypes;
import org.apache.calcite.sql.type.ReturnTypes;
import org.apache.calcite.sql.type.SqlOperandCountRanges;
import org.apache.calcite.sql.type.SqlOperandTypeChecker;
import org.apache.calcite.sql.type.SqlReturnTypeInference;
import org.apache.calcite.sql.type.SqlTypeFamily;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.sql.type.SqlTypeTransforms;
import org.apache.calcite.sql.type.SqlTypeUtil;
import org.apache.calcite.sql.util.SqlOperatorTables;
import org.apache.calcite.sql.validate.SqlConformance;
import org.apache.calcite.sql.validate.SqlConformanceEnum;
import org.apache.calcite.sql.validate.SqlDelegatingConformance;
import org.apache.calcite.sql.validate.SqlNameMatcher;
import org.apache.calcite.sql.validate.SqlNameMatchers;
import org.apache.calcite.sql.validate.SqlValidator;

/** What makes the language ours: names, types, functions and how strict it is. Stateless. */
final class Dialect {
  static final SqlConformance CONFORMANCE =
      new SqlDelegatingConformance(SqlConformanceEnum.LENIENT) {
        @Override
        public boolean isNonStrictGroupBy() {
          return false;
        }

        @Override
        public boolean allowExplicitRowValueConstructor() {
          return true;
        }
      };

  static final SqlParser.Config PARSER =
      SqlParser.config()
          .withParserFactory(DripParser.FACTORY)
          .withQuoting(Quoting.DOUBLE_QUOTE)
          .withUnquotedCasing(Casing.TO_LOWER)
          .withQuotedCasing(Casing.UNCHANGED)
          .withCaseSensitive(true)
          .withConformance(CONFORMANCE)
          .withIdentifierMaxLength(256);

  static final SqlValidator.Config VALIDATOR =
      SqlValidator.Config.DEFAULT
          .withConformance(CONFORMANCE)
          .withDefaultNullCollation(NullCollation.HIGH)
          .withIdentifierExpansion(true)
          .withTypeCoercionFactory(StrictCoercion::new);

  /** The least number of digits after the point of an average. */
  private static final int AVERAGE_SCALE = 16;

  private static final RelDataTypeSystem TYPES =
      new DelegatingTypeSystem(RelDataTypeSystem.DEFAULT) {
        @Override
        public int getMaxPrecision(SqlTypeName typeName) {
          return switch (typeName) {
            case TIMESTAMP, TIME, TIMESTAMP_WITH_LOCAL_TIME_ZONE -> 6;
            case DECIMAL -> 38;
            default -> super.getMaxPrecision(typeName);
          };
        }

        @Override
        public int getDefaultPrecision(SqlTypeName typeName) {
          return switch (typeName) {
            case TIMESTAMP, TIME -> 6;
            case DECIMAL -> 38;
            default -> super.getDefaultPrecision(typeName);
          };
        }

        @Override
        public int getMaxScale(SqlTypeName typeName) {
          return typeName == SqlTypeName.DECIMAL ? 38 : super.getMaxScale(typeName);
        }

        @Override
        public int getMaxNumericPrecision() {
          return 38;
        }

        @Override
        public int getMaxNumericScale() {
          return 38;
        }

        @Override
        public boolean shouldConvertRaggedUnionTypesToVarying() {
          return true;
        }

        @Override
        public RoundingMode roundingMode() {
          return RoundingMode.HALF_UP;
        }

        @Override
        public RelDataType deriveSumType(RelDataTypeFactory factory, RelDataType argument) {
          RelDataType type =
              switch (argument.getSqlTypeName()) {
                case TINYINT, SMALLINT, INTEGER -> factory.createSqlType(SqlTypeName.BIGINT);
                case BIGINT -> factory.createSqlType(SqlTypeName.DECIMAL, 38, 0);
                case DECIMAL -> factory.createSqlType(SqlTypeName.DECIMAL, 38, argument.getScale());
                default -> argument;
              };
          return factory.createTypeWithNullability(type, argument.isNullable());
        }

        @Override
        public RelDataType deriveAvgAggType(RelDataTypeFactory factory, RelDataType argument) {
          RelDataType type =
              switch (argument.getSqlTypeName()) {
                case TINYINT, SMALLINT, INTEGER, BIGINT, DECIMAL ->
                    factory.createSqlType(
                        SqlTypeName.DECIMAL, 38, Math.max(AVERAGE_SCALE, argument.getScale()));
                case REAL, FLOAT, DOUBLE -> factory.createSqlType(SqlTypeName.DOUBLE);
                default -> argument;
              };
          return factory.createTypeWithNullability(type, argument.isNullable());
        }
      };

  private static final SqlReturnTypeInference TEXT =
      ReturnTypes.explicit(SqlTypeName.VARCHAR).andThen(SqlTypeTransforms.TO_NULLABLE);

  static final SqlFunction NOW =
      new SqlFunction(
          "NOW",
          SqlKind.OTHER_FUNCTION,
          ReturnTypes.explicit(SqlTypeName.TIMESTAMP, 6),
          null,
          OperandTypes.NILADIC,
          SqlFunctionCategory.TIMEDATE) {
        @Override
        public boolean isDynamicFunction() {
          return true;
        }
      };

  static final SqlFunction TIMESTAMP_DIFF =
      function(
          "TIMESTAMP_DIFF",
          ReturnTypes.BIGINT_NULLABLE,
          OperandTypes.family(
              SqlTypeFamily.CHARACTER, SqlTypeFamily.DATETIME, SqlTypeFamily.DATETIME));

  static final SqlFunction EXACT_SECONDS =
      function(
          "EXACT_SECONDS",
          ReturnTypes.explicit(f -> f.createSqlType(SqlTypeName.DECIMAL, 18, 6))
              .andThen(SqlTypeTransforms.TO_NULLABLE),
          OperandTypes.family(SqlTypeFamily.DATETIME, SqlTypeFamily.CHARACTER));

  /** ARRAY[…]: that an element is not NULL is of no use to anybody. */
  static final SqlFunction ARRAY =
      function(
          "ARRAY",
          binding -> {
            RelDataTypeFactory types = binding.getTypeFactory();
            RelDataType element = types.leastRestrictive(binding.collectOperandTypes());
            return types.createArrayType(types.createTypeWithNullability(element, true), -1);
          },
          new ArrayOperands(SqlOperandCountRanges.any()) {
            @Override
            public boolean checkOperandTypes(SqlCallBinding binding, boolean throwOnFailure) {
              List<RelDataType> types = binding.collectOperandTypes();
              if (types.isEmpty() || binding.getTypeFactory().leastRestrictive(types) == null) {
                throw SqlErrors.invalid(
                    binding.getCall(),
                    "an array has elements of one kind, and one at least",
                    "cast them, for example ARRAY[CAST(1 AS VARCHAR), 'a']");
              }
              return true;
            }
          });

  /** A value compared with each element of an array: the comparison and ANY or ALL go before. */
  static final SqlFunction QUANTIFIED =
      function(
          "QUANTIFIED",
          ReturnTypes.explicit(SqlTypeName.BOOLEAN).andThen(SqlTypeTransforms.FORCE_NULLABLE),
          new ArrayOperands(SqlOperandCountRanges.of(3)) {
            @Override
            public boolean checkOperandTypes(SqlCallBinding binding, boolean throwOnFailure) {
              RelDataType element = binding.getOperandType(2).getComponentType();
              RelDataType value = binding.getOperandType(1);
              boolean same =
                  element != null
                      && (SqlTypeUtil.isNull(value)
                          || SqlTypeUtil.isNull(element)
                          || SqlTypeUtil.isNumeric(value) && SqlTypeUtil.isNumeric(element)
                          || value.getFamily().equals(element.getFamily()));
              if (!same) {
                throw SqlErrors.invalid(
                    binding.getCall(),
                    "ANY and ALL compare with a query, or with the elements of an array of the same"
                        + " kind",
                    "for example parcel = ANY (ARRAY[1, 2])");
              }
              return true;
            }
          });

  /** What may stand in an array, or beside one. */
  private abstract static class ArrayOperands implements SqlOperandTypeChecker {
    private final SqlOperandCountRange count;

    ArrayOperands(SqlOperandCountRange count) {
      this.count = count;
    }

    @Override
    public SqlOperandCountRange getOperandCountRange() {
      return count;
    }

    @Override
    public String getAllowedSignatures(SqlOperator operator, String name) {
      return name;
    }
  }

  /** ROUND to a constant number of digits answers a decimal of that scale. */
  private static final SqlReturnTypeInference ROUNDED =
      binding -> {
        RelDataType type = binding.getOperandType(0);
        if (type.getSqlTypeName() == SqlTypeName.DECIMAL) {
          int scale = 0;
          if (binding.getOperandCount() > 1) {
            Integer digits =
                binding.isOperandLiteral(1, true)
                    ? binding.getOperandLiteralValue(1, Integer.class)
                    : null;
            scale =
                digits == null ? type.getScale() : Math.max(0, Math.min(digits, type.getScale()));
          }
          type =
              binding
                  .getTypeFactory()
                  .createTypeWithNullability(
                      binding
                          .getTypeFactory()
                          .createSqlType(
                              SqlTypeName.DECIMAL, Math.min(38, type.getPrecision() + 1), scale),
                      type.isNullable());
        }
        boolean nullable = false;
        for (RelDataType t : binding.collectOperandTypes()) {
          nullable |= t.isNullable();
        }
        return binding.getTypeFactory().createTypeWithNullability(type, nullable);
      };

  private static final SqlReturnTypeInference EXTREME =
      ReturnTypes.LEAST_RESTRICTIVE.andThen(SqlTypeTransforms.LEAST_NULLABLE);

  private static final List<SqlOperator> OWN =
      List.of(
          NOW,
          TIMESTAMP_DIFF,
          EXACT_SECONDS,
          ARRAY,
          QUANTIFIED,
          function(
              "ROUND",
              ROUNDED,
              OperandTypes.or(
                  OperandTypes.NUMERIC,
                  OperandTypes.family(SqlTypeFamily.NUMERIC, SqlTypeFamily.INTEGER))),
          // NULLs are passed over, as PostgreSQL does; the library has several, which differ in
          // that.
          function("GREATEST", EXTREME, OperandTypes.SAME_VARIADIC),
          function("LEAST", EXTREME, OperandTypes.SAME_VARIADIC),
          function("CONCAT", ReturnTypes.VARCHAR, OperandTypes.ONE_OR_MORE),
          // The library counts the bytes of binary values only.
          function(
              "OCTET_LENGTH",
              ReturnTypes.INTEGER_NULLABLE,
              OperandTypes.family(SqlTypeFamily.CHARACTER)),
          padding("LPAD"),
          padding("RPAD"));

  private static final SqlOperatorTable OPERATORS = operatorTable();

  private Dialect() {}

  private static SqlFunction function(
      String name,
      SqlReturnTypeInference type,
      org.apache.calcite.sql.type.SqlOperandTypeChecker operands) {
    return new SqlFunction(
        new SqlIdentifier(name, org.apache.calcite.sql.parser.SqlParserPos.ZERO),
        type,
        null,
        operands,
        null,
        SqlFunctionCategory.USER_DEFINED_FUNCTION);
  }

  // The library types a padded nullable text as NOT NULL.
  private static SqlFunction padding(String name) {
    return function(
        name,
        TEXT,
        OperandTypes.or(
            OperandTypes.family(SqlTypeFamily.CHARACTER, SqlTypeFamily.INTEGER),
            OperandTypes.family(
                SqlTypeFamily.CHARACTER, SqlTypeFamily.INTEGER, SqlTypeFamily.CHARACTER)));
  }

  static RelDataTypeFactory typeFactory() {
    return new JavaTypeFactoryImpl(TYPES) {
      @Override
      public Charset getDefaultCharset() {
        return StandardCharsets.UTF_8;
      }
    };
  }

  static SqlOperatorTable operators() {
    return OPERATORS;
  }

  private static SqlOperatorTable operatorTable() {
    List<SqlOperator> all = new ArrayList<>(OWN);
    all.addAll(AggregateFunctions.OWN);
    all.addAll(OwnFunctions.all());
    all.addAll(TimeArithmetic.OPERATORS);
    all.add(TimeWindowCalls.GROW);
    SqlOperatorTable own = SqlOperatorTables.of(all);
    SqlOperatorTable library =
        SqlLibraryOperatorTableFactory.INSTANCE.getOperatorTable(
            EnumSet.of(SqlLibrary.STANDARD, SqlLibrary.POSTGRESQL, SqlLibrary.BIG_QUERY));
    SqlNameMatcher ignoreCase = SqlNameMatchers.withCaseSensitive(false);
    return new SqlOperatorTable() {
      @Override
      public void lookupOperatorOverloads(
          SqlIdentifier name,
          SqlFunctionCategory category,
          SqlSyntax syntax,
          List<SqlOperator> operators,
          SqlNameMatcher matcher) {
        own.lookupOperatorOverloads(name, category, syntax, operators, ignoreCase);
        if (operators.isEmpty() && name.isSimple()) {
          for (SqlOperator op : all) {
            if (syntax == SqlSyntax.FUNCTION
                && op.getName().equals(name.getSimple().toUpperCase(Locale.ROOT))) {
              operators.add(op);
              return;
            }
          }
        }
        if (operators.isEmpty()) {
          library.lookupOperatorOverloads(name, category, syntax, operators, ignoreCase);
        }
      }

      @Override
      public List<SqlOperator> getOperatorList() {
        return SqlOperatorTables.chain(own, library).getOperatorList();
      }
    };
  }
}
