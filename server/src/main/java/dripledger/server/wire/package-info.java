/**
 * SQL for standard clients: the PostgreSQL frontend/backend protocol, version 3, on a port of its
 * own. A connection has a thread of its own, which reads a message, does what it says and answers.
 */
package dripledger.server.wire;
