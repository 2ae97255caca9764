package dripledger.server;

import java.util.List;
import org.springframework.boot.context.properties.ConfigurationProperties;

/**
 * The service's bounds, from {@code drip.*} in the configuration.
 *
 * @param maxEpochRows an epoch stops taking more once it has this many rows
 * @param maxQueuedBytes inputs wait once this many bytes of changes are queued for the epoch loop
 * @param maxResultRows a query that answers more rows is refused
 * @param maxFollowerChanges a follower that is this far behind is cut off
 * @param maxFollowers connections that may follow at the same time
 * @param maxFollowedQueries different queries that may be followed at the same time
 * @param followRetainedMillis for how long changes are kept for a follower that comes back
 * @param followRetainedBytes of them, for each query
 * @param maxStatementBytes the longest script taken
 * @param maxHeldBytes sources wait and pushes are refused while views hold more; 0 is six tenths of
 *     the heap
 * @param maxUnacknowledgedBytes pushes wait once this many bytes wait for the database
 * @param checkpointMillis how often state is saved
 * @param queryMillis how long a query that is asked once may take; 0 is any time
 * @param maxQueryBytes heap that a query that is asked once may hold; 0 is a tenth of the heap
 * @param changeMillis how long a statement that changes a table, or a push, waits for the database
 * @param workers how many threads step an epoch together; 0 is as many as there are cores
 * @param maxWaitingPushes requests that may wait for the database at the same time
 * @param maxRejects rejects kept of one stream or table; the oldest go first
 * @param connectionCheckSeconds how often connections are tried in the background
 * @param warmUpMillis how long the service asks itself after its start; 0 is not at all
 * @param waitingDirectory where changes wait for views that are refreshed from time to time; empty
 *     is where temporary files are
 * @param maxWaitingBytes a view for which more waits is refreshed before it is due; a delivery for
 *     which more waits ends
 * @param deliveryMillis how long a change waits for a checkpoint before it is delivered
 * @param wirePort where SQL clients connect; -1 for none
 * @param wireDatabase the name they connect to
 * @param maxWireConnections of them at the same time
 * @param idleTransactionMillis how long such a client may hold a transaction and say nothing; 0 is
 *     for ever
 * @param trustLoopback who comes from this machine without a token is the owner: {@code
 *     until-roles} for as long as there is no other role, {@code always}, or {@code never}
 * @param ownerTokenFile where the owner's first token is written; empty is beside the key of
 *     secrets
 * @param hosts names by which this machine is called from elsewhere
 * @param tlsCertificate a PEM file with the certificate and those that it rests on; empty for none
 * @param tlsKey a PEM file with its key
 * @param fileFolders below which connections and options may name files; none if empty
 * @param webHosts hosts that webhooks, schema registries and other services may be on, with or
 *     without a port; {@code *} is any
 * @param journalDays for how long the journal is kept
 * @param secretKeyFile where the key that seals secrets is; made at first use
 */
@ConfigurationProperties("drip")
public record Settings(
    int maxEpochRows,
    long maxQueuedBytes,
    int maxResultRows,
    int maxFollowerChanges,
    int maxFollowers,
    int maxFollowedQueries,
    long followRetainedMillis,
    long followRetainedBytes,
    int maxStatementBytes,
    long maxHeldBytes,
    long maxUnacknowledgedBytes,
    long checkpointMillis,
    long queryMillis,
    long maxQueryBytes,
    long changeMillis,
    int workers,
    int maxWaitingPushes,
    int maxRejects,
    int connectionCheckSeconds,
    long warmUpMillis,
    String waitingDirectory,
    long maxWaitingBytes,
    long deliveryMillis,
    int wirePort,
    String wireDatabase,
    int maxWireConnections,
    long idleTransactionMillis,
    String trustLoopback,
    String ownerTokenFile,
    List<String> hosts,
    String tlsCertificate,
    String tlsKey,
    List<String> fileFolders,
    List<String> webHosts,
    int journalDays,
    String secretKeyFile) {}
