/**
 * How somebody proves to be a role: tokens for HTTP, the same as passwords for SQL clients, and who
 * may come without; and how often each may ask.
 */
package dripledger.server.access;
