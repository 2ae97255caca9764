/**
 * What is durable, in PostgreSQL through plain JDBC: {@link
 * dripledger.server.records.PostgresLedger} (changes given to us) and {@link
 * dripledger.server.records.PostgresDefinitions} (what is defined). The tables are made by the
 * migrations in {@code db/migration}.
 */
package dripledger.server.records;
