/**
 * How the service does: what is not as it should be, health for whoever watches it, and figures.
 */
package dripledger.server.health;
