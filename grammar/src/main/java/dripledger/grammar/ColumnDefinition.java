package dripledger.grammar;

import org.apache.calcite.sql.SqlDataTypeSpec;
import org.apache.calcite.sql.SqlIdentifier;
import org.apache.calcite.sql.SqlNode;

/**
 * One column of CREATE STREAM or CREATE TABLE.
 *
 * @param name its name, folded by the parser
 * @param type its declared type
 * @param notNull whether NOT NULL or PRIMARY KEY was said
 * @param primaryKey whether PRIMARY KEY was said on the column itself
 * @param meta what the transport knows (META name), or null for a field of the event
 * @param path where in the event the field is (PATH '…'), or null for the field of its name
 */
public record ColumnDefinition(
    SqlIdentifier name,
    SqlDataTypeSpec type,
    boolean notNull,
    boolean primaryKey,
    SqlIdentifier meta,
    SqlNode path) {}
