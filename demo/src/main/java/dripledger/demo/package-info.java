/**
 * The Quillhaven parcel hub: {@link dripledger.demo.ScanGenerator} makes its seeded events, {@link
 * dripledger.demo.Scenario} holds its statements, and {@link dripledger.demo.PostgresCluster} runs
 * a private PostgreSQL on loopback, for the start command and for tests. Talks to the service over
 * the network only, so it depends on none of its modules.
 */
package dripledger.demo;
