/**
 * The network interface: statements, events, look-ups, follow, objects. Controllers translate
 * between HTTP and the engine's façade and decide nothing else; {@link
 * dripledger.server.http.Problems} turns every error into an RFC 9457 answer.
 */
package dripledger.server.http;
