package dripledger.engine.access;

/** What can be granted. */
public enum Privilege {
  /** To read and follow a relation, or to call an endpoint. */
  SELECT,
  /** To push to a stream, or to insert into a table. */
  INSERT,
  UPDATE,
  DELETE,
  /** To look behind a connection, and to make streams, tables and sinks that use it. */
  USAGE,
  /** To make things, in a schema. */
  CREATE,
  /** To do anything with it: whoever made it has this. It cannot be granted. */
  OWN
}
