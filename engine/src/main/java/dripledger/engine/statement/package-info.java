/** Carrying statements out: each is checked whole and handed to who does what it says. */
package dripledger.engine.statement;
