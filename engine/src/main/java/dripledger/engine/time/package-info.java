/**
 * Event time and watermarks. {@link dripledger.engine.time.Watermark} follows the event time of one
 * stream. Windows come here when the language has them.
 */
package dripledger.engine.time;
