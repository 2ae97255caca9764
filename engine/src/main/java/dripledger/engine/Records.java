package dripledger.engine;

import dripledger.engine.access.AccessStore;
import dripledger.engine.catalog.DefinitionStore;
import dripledger.engine.checkpoint.CheckpointStore;
import dripledger.engine.source.Ledger;
import dripledger.engine.source.RejectStore;
import dripledger.engine.upkeep.UpkeepHistory;

/** Everything that outlives the process. The engine closes none of it. */
public record Records(
    Ledger ledger,
    DefinitionStore definitions,
    CheckpointStore checkpoints,
    RejectStore rejects,
    UpkeepHistory upkeep,
    AccessStore access) {}
