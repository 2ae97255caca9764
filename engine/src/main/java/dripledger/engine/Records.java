package dripledger.engine;

import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.checkpoint.CheckpointStore;

/** Everything that outlives the process. The engine closes none of it. */
public record Records(
    Ledger ledger, DefinitionStore definitions, CheckpointStore checkpoints, RejectStore rejects) {}
