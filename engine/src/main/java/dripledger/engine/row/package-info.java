/**
 * Rows as flat bytes: schemas, the binary row, order-preserving keys, hashing, and the boxed form
 * used at the edges.
 *
 * <p>Read in this order: {@link dripledger.engine.row.ColumnType} and {@link
 * dripledger.engine.row.Schema} (what a row is made of), {@link dripledger.engine.row.RowLayout}
 * (where its bytes are), {@link dripledger.engine.row.RowWriter} and {@link
 * dripledger.engine.row.Page} (how rows are made and travel), {@link
 * dripledger.engine.row.SortKeyCodec} (bytes that sort as the values do). Nothing here knows SQL.
 *
 * <p>Equality and hashing of rows are equality and hashing of bytes, so every value has exactly one
 * encoding: −0.0 is written as 0.0, every NaN as one NaN, decimals at their column's scale, a
 * null's slot is zero, and the variable area is packed in column order.
 */
package dripledger.engine.row;
