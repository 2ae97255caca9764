package dripledger.engine.sql;

import dripledger.engine.row.ColumnType;
import dripledger.engine.row.ColumnType.Kind;
import dripledger.grammar.NamedParameter;
import java.time.LocalDate;
import java.time.LocalTime;
import java.util.HashMap;
import java.util.HashSet;
import java.util.LinkedHashMap;
import java.util.List;
import java.util.Map;
import java.util.Set;
import java.util.function.Supplier;
import org.apache.calcite.runtime.CalciteContextException;
import org.apache.calcite.sql.SqlCall;
import org.apache.calcite.sql.SqlDynamicParam;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.fun.SqlQuantifyOperator;
import org.apache.calcite.sql.util.SqlBasicVisitor;
import org.apache.calcite.sql.validate.SqlValidator;

/**
 * Settles the types of a statement's parameters before their values are known: those that the
 * client says, else what the parameter is compared with, stored in or given to, else text. Single
 * use.
 */
final class ParameterTypes {
  /** Of what kinds the elements of a list may be, as tried one after the other. */
  private static final List<ColumnType> ELEMENTS =
      List.of(
          ColumnType.of(Kind.VARCHAR),
          ColumnType.of(Kind.BIGINT),
          ColumnType.of(Kind.DOUBLE),
          ColumnType.of(Kind.TIMESTAMP),
          ColumnType.of(Kind.DATE),
          ColumnType.of(Kind.BOOLEAN));

  private final Map<String, ColumnType> types = new LinkedHashMap<>();
  private final Map<String, ColumnType> declared;

  ParameterTypes(Map<String, ColumnType> declared) {
    this.declared = declared;
  }

  /**
   * The types by name, in the order in which the statement names them.
   *
   * @param parsed gives the statement's tree anew
   * @param validator makes one that is used once
   */
  Map<String, ColumnType> settle(Supplier<SqlNode> parsed, Supplier<SqlValidator> validator) {
    List<NamedParameter> all = parameters(parsed.get());
    all.forEach(p -> types.put(p.name(), declared.get(p.name())));
    Set<String> lists = lists(parsed.get());
    lists.removeIf(name -> types.get(name) != null);
    lists.forEach(name -> types.put(name, ColumnType.array(ELEMENTS.get(0))));
    int tried = 1;
    boolean open = !lists.isEmpty();
    for (int i = 0; i <= all.size() && (open || types.containsValue(null)); i++) {
      SqlNode kept = parsed.get().accept(new SyntaxRewriter(this::standIn));
      SqlValidator checking = validator.get();
      try {
        SqlNode validated = checking.validate(kept);
        List<NamedParameter> left = parameters(validated);
        left.addAll(parameters(kept));
        for (NamedParameter p : left) {
          if (checking.getValidatedNodeTypeIfKnown(p) != null) {
            keep(p, TypeMapping.fromSql(checking.getValidatedNodeType(p)));
          }
        }
        break;
      } catch (CalciteContextException e) {
        NamedParameter unclear =
            all.stream()
                .filter(p -> types.get(p.name()) == null)
                .filter(p -> p.getParserPosition().getLineNum() == e.getPosLine())
                .filter(p -> p.getParserPosition().getColumnNum() == e.getPosColumn())
                .findFirst()
                .orElse(null);
        if (unclear == null && !lists.isEmpty() && tried < ELEMENTS.size()) {
          ColumnType next = ColumnType.array(ELEMENTS.get(tried++));
          lists.forEach(name -> types.put(name, next));
          i--;
          continue;
        }
        if (unclear == null) {
          break; // what is wrong with it is said when it is planned
        }
        types.put(unclear.name(), ColumnType.of(Kind.VARCHAR));
      }
    }
    types.replaceAll((name, type) -> type == null ? ColumnType.of(Kind.VARCHAR) : type);
    return types;
  }

  /** The parameters that values are compared with the elements of. */
  private static Set<String> lists(SqlNode node) {
    Set<String> found = new HashSet<>();
    node.accept(
        new SqlBasicVisitor<Void>() {
          @Override
          public Void visit(SqlCall call) {
            if (call.getOperator() instanceof SqlQuantifyOperator) {
              SqlNode right = call.operand(1);
              SqlNode one = right instanceof SqlNodeList l && l.size() == 1 ? l.get(0) : right;
              if (one instanceof NamedParameter parameter) {
                found.add(parameter.name());
              }
            }
            return super.visit(call);
          }
        });
    return found;
  }

  private void keep(NamedParameter parameter, ColumnType type) {
    if (types.get(parameter.name()) == null) {
      types.put(
          parameter.name(),
          type.kind() == Kind.VARCHAR ? ColumnType.of(Kind.VARCHAR) : type.withNullable(true));
    }
  }

  /** The parameter itself, or with the type that is known of it. */
  private SqlNode standIn(NamedParameter parameter) {
    ColumnType type = types.get(parameter.name());
    if (type == null) {
      return parameter;
    }
    Map<String, Object> any = Map.of(parameter.name(), new Argument(type, any(type)));
    return ArgumentLiterals.of(parameter, any);
  }

  /** Some value of each parameter, to plan the statement with. */
  static Map<String, Object> anyValues(Map<String, ColumnType> types) {
    Map<String, Object> values = new HashMap<>();
    types.forEach((name, type) -> values.put(name, new Argument(type, any(type))));
    return values;
  }

  private static Object any(ColumnType type) {
    return switch (type.kind()) {
      case BOOLEAN -> true;
      case SMALLINT, INTEGER, BIGINT -> 1L;
      case REAL, DOUBLE -> 1.0;
      case DECIMAL -> java.math.BigDecimal.ONE;
      case VARBINARY -> new byte[0];
      case DATE -> LocalDate.EPOCH;
      case TIME -> LocalTime.MIDNIGHT;
      case TIMESTAMP -> LocalDate.EPOCH.atStartOfDay();
      case INTERVAL_DAY_TIME -> java.time.Duration.ZERO;
      case ARRAY -> List.of(any(type.element()));
      default -> "";
    };
  }

  private static List<NamedParameter> parameters(SqlNode node) {
    List<NamedParameter> found = new java.util.ArrayList<>();
    node.accept(
        new SqlBasicVisitor<Void>() {
          @Override
          public Void visit(SqlDynamicParam param) {
            if (param instanceof NamedParameter named) {
              found.add(named);
            }
            return null;
          }
        });
    return found;
  }
}
