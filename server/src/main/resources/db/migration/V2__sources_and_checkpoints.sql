-- ALTERs are statements of their own, loaded in order with the definitions they alter.
ALTER TABLE definition ADD COLUMN alters bigint NOT NULL DEFAULT 0;
ALTER TABLE definition ADD COLUMN begin_position text;
DROP INDEX definition_name;
CREATE UNIQUE INDEX definition_name ON definition (name) WHERE alters = 0;

-- A segment now says which partition of its source the events came from, and when they were taken.
ALTER TABLE ledger_segment ADD COLUMN partition integer NOT NULL DEFAULT 0;
ALTER TABLE ledger_segment ADD COLUMN taken_at timestamptz NOT NULL DEFAULT now();
ALTER TABLE ledger_segment DROP CONSTRAINT ledger_segment_pkey;
ALTER TABLE ledger_segment ADD PRIMARY KEY (sequence, relation_id, partition);

-- Where the ledger stands: the last sequence and position stay known when old segments go.
CREATE TABLE ledger_end (
  relation_id  bigint PRIMARY KEY,
  sequence     bigint NOT NULL,
  position     bigint NOT NULL
);
INSERT INTO ledger_end (relation_id, sequence, position)
  SELECT relation_id, max(sequence), max(first_position + changes) FROM ledger_segment GROUP BY relation_id;

-- How far inputs whose events the ledger keeps have been read, as of its last segment.
CREATE TABLE ledger_input (
  input_id  bigint PRIMARY KEY,
  position  text NOT NULL
);

-- The one checkpoint in force, replaced as a whole.
CREATE TABLE checkpoint (
  only_row   boolean PRIMARY KEY DEFAULT true CHECK (only_row),
  number     bigint NOT NULL,
  epoch      bigint NOT NULL,
  sequence   bigint NOT NULL,
  made_at    timestamptz NOT NULL
);
CREATE TABLE checkpoint_input (
  input_id  bigint PRIMARY KEY,
  position  text NOT NULL
);
CREATE TABLE checkpoint_node (
  node_id  bigint PRIMARY KEY,
  plan     text NOT NULL,
  figures  bytea NOT NULL,
  parts    integer NOT NULL
);

-- State in chunks, compressed by us; those of one part count in the order of checkpoint and place.
CREATE TABLE checkpoint_chunk (
  node_id     bigint NOT NULL,
  part        integer NOT NULL,
  checkpoint  bigint NOT NULL,
  place       integer NOT NULL,
  raw_bytes   integer NOT NULL,
  payload     bytea NOT NULL,
  PRIMARY KEY (node_id, part, checkpoint, place)
);
ALTER TABLE checkpoint_chunk ALTER COLUMN payload SET STORAGE EXTERNAL;

-- Messages that were not taken, as they came.
CREATE TABLE reject (
  id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
  object_id  bigint NOT NULL,
  at         timestamptz NOT NULL,
  reason     text NOT NULL,
  key_bytes  bytea,
  raw        bytea,
  origin     text NOT NULL
);
CREATE INDEX reject_object ON reject (object_id, id);

-- Secrets, encrypted with a key that is not in this database.
CREATE TABLE secret (
  name       text PRIMARY KEY,
  nonce      bytea NOT NULL,
  sealed     bytea NOT NULL,
  set_at     timestamptz NOT NULL
);
