/**
 * What a view would keep, before it is made: by a trial of its plan over the events that there are.
 */
package dripledger.engine.advice;
