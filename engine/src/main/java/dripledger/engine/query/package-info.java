/**
 * Asking once and following: {@link dripledger.engine.query.QueryRunner} feeds a plan one snapshot,
 * reading an index where a condition or an order allows it; a {@link
 * dripledger.engine.query.Subscription} is a followed query as its reader sees it. {@link
 * dripledger.engine.query.Result} is what every statement answers.
 */
package dripledger.engine.query;
