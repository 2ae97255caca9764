package dripledger.engine.sql;

import dripledger.engine.row.Column;
import java.util.ArrayList;
import java.util.HashSet;
import java.util.List;
import java.util.Locale;
import java.util.Set;
import org.apache.calcite.sql.SqlBasicCall;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlDataTypeSpec;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlIntervalLiteral;
import org.apache.calcite.sql.SqlKind;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.SqlOrderBy;
import org.apache.calcite.sql.SqlSelect;
import org.apache.calcite.sql.SqlUnknownLiteral;
import org.apache.calcite.sql.SqlWith;
import org.apache.calcite.sql.fun.SqlCase;
import org.apache.calcite.sql.fun.SqlStdOperatorTable;
import org.apache.calcite.sql.type.SqlTypeName;
import org.apache.calcite.sql.util.SqlBasicVisitor;

/**
 * Names of output columns that have none of their own, as PostgreSQL gives them: a column's or
 * function's own name, for a cast that of what is cast or else of the type, for CASE that of its
 * ELSE, and {@code ?column?} for everything else. Stateless.
 */
final class OutputNames {
  /** What a column is called that nothing gives a name to. */
  static final String NONE = "?column?";

  private OutputNames() {}

  /** The names of a query's columns, or null if only the catalog knows them ({@code *}). */
  static List<String> of(SqlNode query) {
    if (query instanceof SqlOrderBy ordered) {
      return of(ordered.query);
    }
    if (query instanceof SqlWith with) {
      return of(with.body);
    }
    if (query instanceof SqlSelect select) {
      return ofItems(select.getSelectList());
    }
    if (query.getKind() == SqlKind.VALUES) {
      List<String> names = new ArrayList<>();
      int columns = ((SqlCall) ((SqlCall) query).operand(0)).operandCount();
      for (int i = 1; i <= columns; i++) {
        names.add("column" + i);
      }
      return names;
    }
    boolean set =
        query.getKind() == SqlKind.UNION
            || query.getKind() == SqlKind.INTERSECT
            || query.getKind() == SqlKind.EXCEPT;
    return set ? of(((SqlCall) query).operand(0)) : null;
  }

  private static List<String> ofItems(SqlNodeList items) {
    List<String> names = new ArrayList<>();
    for (SqlNode item : items) {
      if (item instanceof SqlIdentifier id && id.isStar()) {
        return null;
      }
      names.add(of(item, true));
    }
    return names;
  }

  /**
   * Gives the unnamed items of a SELECT their names, so that what reads it can use them. An item
   * whose name stands in GROUP BY or HAVING keeps none: there it means the column.
   */
  static void give(SqlSelect select) {
    Set<String> taken = new HashSet<>();
    SqlBasicVisitor<Void> collector =
        new SqlBasicVisitor<>() {
          @Override
          public Void visit(SqlIdentifier id) {
            taken.add(id.names.get(id.names.size() - 1));
            return null;
          }
        };
    if (select.getGroup() != null) {
      select.getGroup().accept(collector);
    }
    if (select.getHaving() != null) {
      select.getHaving().accept(collector);
    }
    SqlNodeList items = select.getSelectList();
    for (int i = 0; i < items.size(); i++) {
      SqlNode item = items.get(i);
      if (item == null || item instanceof SqlIdentifier || item.getKind() == SqlKind.AS) {
        continue;
      }
      String name = of(item, true);
      if (!name.equals(NONE) && taken.add(name)) {
        items.set(
            i,
            SqlStdOperatorTable.AS.createCall(
                item.getParserPosition(), item, new SqlIdentifier(name, item.getParserPosition())));
      }
    }
  }

  private static String of(SqlNode item, boolean typeCounts) {
    if (item instanceof SqlIdentifier id) {
      return id.names.get(id.names.size() - 1);
    }
    if (item instanceof SqlIntervalLiteral) {
      return "interval";
    }
    if (item instanceof SqlUnknownLiteral typed) { // DATE '…' before it is validated
      return typed.tag.toLowerCase(Locale.ROOT);
    }
    if (item instanceof SqlLiteral literal) {
      return typeCounts ? ofLiteral(literal) : NONE;
    }
    if (item instanceof SqlCase choice) {
      SqlNode otherwise = choice.getElseOperand();
      String name = otherwise == null ? NONE : of(otherwise, false);
      return name.equals(NONE) ? "case" : name;
    }
    if (item instanceof SqlSelect query) {
      List<String> names = of(query);
      return names == null ? NONE : names.get(0);
    }
    if (!(item instanceof SqlCall call)) {
      return NONE;
    }
    String operator = call.getOperator().getName().toLowerCase(Locale.ROOT);
    return switch (call.getKind()) {
      case AS -> ((SqlIdentifier) call.operand(1)).getSimple();
      case CAST -> ofCast(call, typeCounts);
      case SCALAR_QUERY -> of(call.operand(0), typeCounts);
      case OVER, FILTER, WITHIN_GROUP, RESPECT_NULLS, IGNORE_NULLS ->
          of(call.operand(0), typeCounts);
      case TRIM -> ofTrim(call);
      case ROW -> "row";
      case ARRAY_VALUE_CONSTRUCTOR -> "array";
      case ITEM -> of(call.operand(0), typeCounts);
      case EXISTS, COALESCE, NULLIF, EXTRACT, POSITION, GREATEST, LEAST -> operator;
      default -> {
        if (operator.equals("::")) {
          yield ofCast(call, typeCounts);
        }
        boolean function =
            call.getOperator() instanceof org.apache.calcite.sql.SqlFunction
                && !(call instanceof SqlBasicCall && operator.isEmpty());
        yield function ? operator : NONE;
      }
    };
  }

  private static String ofTrim(SqlCall call) {
    String side = call.getOperandList().get(0).toString().toUpperCase(Locale.ROOT);
    return side.contains("LEADING") ? "ltrim" : side.contains("TRAILING") ? "rtrim" : "btrim";
  }

  private static String ofCast(SqlCall call, boolean typeCounts) {
    String inner = of(call.operand(0), false);
    if (!inner.equals(NONE) || !typeCounts) {
      return inner;
    }
    return call.operand(1) instanceof SqlDataTypeSpec type
        ? typeName(type.getTypeName().getSimple().toLowerCase(Locale.ROOT))
        : NONE;
  }

  private static String typeName(String type) {
    return switch (type) {
      case "smallint" -> "int2";
      case "integer", "int" -> "int4";
      case "bigint" -> "int8";
      case "real" -> "float4";
      case "double", "float" -> "float8";
      case "decimal" -> "numeric";
      case "boolean" -> "bool";
      case "varbinary" -> "bytea";
      case "char" -> "bpchar";
      default -> type;
    };
  }

  private static String ofLiteral(SqlLiteral literal) {
    SqlTypeName type = literal.getTypeName();
    return switch (type) {
      case BOOLEAN -> "bool";
      case DATE, TIME, TIMESTAMP -> type.name().toLowerCase(Locale.ROOT);
      default -> NONE;
    };
  }

  /** The columns by the names before AS, of which there may be fewer. */
  static List<Column> named(List<SqlIdentifier> names, List<Column> columns) {
    if (names.size() > columns.size()) {
      throw SqlErrors.invalid(
          names.get(columns.size()),
          names.size() + " names for " + columns.size() + " columns",
          "leave out those that are too many");
    }
    List<Column> named = new ArrayList<>(columns);
    for (int i = 0; i < names.size(); i++) {
      named.set(i, new Column(names.get(i).getSimple(), columns.get(i).type()));
    }
    return named;
  }
}
