/**
 * What has been defined: streams, tables, views and materialized views, and what depends on what. A
 * {@link dripledger.engine.catalog.Catalog} is an immutable snapshot; a change makes a new one.
 * {@link dripledger.engine.catalog.DefinitionStore} is how definitions outlive the process.
 */
package dripledger.engine.catalog;
