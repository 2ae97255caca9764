/**
 * Tables of PostgreSQL databases as change feeds: {@link
 * dripledger.connectors.postgres.PostgresConnector} looks and checks, {@link
 * dripledger.connectors.postgres.TableLoad} reads what is there, {@link
 * dripledger.connectors.postgres.PostgresFeed} follows what changes, {@link
 * dripledger.connectors.postgres.PgOutput} decodes it.
 */
package dripledger.connectors.postgres;
