/** Views and tables of another service of ours, followed over HTTP as tables here. */
package dripledger.connectors.drip;
