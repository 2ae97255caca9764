/**
 * Following over HTTP: one subscription and one encoded stream for all who follow the same query,
 * kept for a while so that who was cut off goes on where it was.
 */
package dripledger.server.follow;
