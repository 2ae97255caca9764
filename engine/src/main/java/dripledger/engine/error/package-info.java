/** {@link dripledger.engine.error.EngineException}: a code, a sentence for the user and a hint. */
package dripledger.engine.error;
