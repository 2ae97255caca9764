/** The public decision-support workload TPC-H: its tables, its queries and data like its own. */
package dripledger.demo.decision;
