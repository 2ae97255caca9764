package dripledger.server.wire;

import dripledger.engine.query.PointRead;
import dripledger.engine.row.ColumnType;
import java.util.List;

/**
 * A statement that waits for its values. Immutable.
 *
 * @param parameters the types of $1, $2 and so on
 * @param oids the numbers they are told by
 * @param fields of its answer; null if it answers no rows
 * @param point how it is read, if it is a read by key; else null
 */
record Prepared(
    StatementText statement,
    Kind kind,
    List<ColumnType> parameters,
    int[] oids,
    List<Field> fields,
    PointRead point) {
  /** Who carries it out. */
  enum Kind {
    EMPTY,
    SESSION,
    COPY,
    CATALOG,
    ENGINE
  }
}
