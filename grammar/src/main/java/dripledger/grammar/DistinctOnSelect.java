package dripledger.grammar;

import java.util.List;
import org.apache.calcite.sql.SqlLiteral;
import org.apache.calcite.sql.SqlNode;
import org.apache.calcite.sql.SqlNodeList;
import org.apache.calcite.sql.SqlSelect;
import org.apache.calcite.sql.SqlSelectKeyword;
import org.apache.calcite.sql.parser.SqlParserPos;

/** {@code SELECT DISTINCT ON (…)}; replaced by a condition on row numbers before validation. */
public final class DistinctOnSelect extends SqlSelect {
  private SqlNodeList on;

  private DistinctOnSelect(
      SqlNodeList on,
      SqlParserPos pos,
      SqlNodeList keywords,
      SqlNodeList list,
      SqlNode from,
      SqlNode where,
      SqlNodeList groups,
      SqlNode having,
      SqlNodeList windows,
      SqlNode qualify) {
    super(
        pos, keywords, list, from, where, groups, having, windows, qualify, null, null, null, null);
    this.on = on;
  }

  /**
   * What was parsed.
   *
   * @param on the expressions, or null for a SELECT of another kind
   */
  public static SqlSelect of(
      SqlNodeList on,
      SqlParserPos pos,
      SqlNodeList keywords,
      SqlNodeList list,
      SqlNode from,
      SqlNode where,
      SqlNodeList groups,
      SqlNode having,
      SqlNodeList windows,
      SqlNode qualify,
      SqlNodeList hints) {
    if (on == null) {
      return new SqlSelect(
          pos, keywords, list, from, where, groups, having, windows, qualify, null, null, null,
          hints);
    }
    List<SqlNode> others =
        keywords.stream()
            .filter(k -> ((SqlLiteral) k).getValue() != SqlSelectKeyword.DISTINCT)
            .toList();
    return new DistinctOnSelect(
        on,
        pos,
        new SqlNodeList(others, keywords.getParserPosition()),
        list,
        from,
        where,
        groups,
        having,
        windows,
        qualify);
  }

  /** The expressions, once; from then on it is a SELECT like any other. */
  public SqlNodeList takeOn() {
    SqlNodeList taken = on;
    on = null;
    return taken;
  }
}
