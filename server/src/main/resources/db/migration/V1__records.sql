-- What is defined now, in the order it was made.
CREATE TABLE definition (
  id          bigint PRIMARY KEY,
  name        text NOT NULL,
  kind        text NOT NULL,
  statement   text NOT NULL,
  defined_at  timestamptz NOT NULL DEFAULT now()
);
CREATE UNIQUE INDEX definition_name ON definition (name);

-- Every definition there ever was, and when it went.
CREATE TABLE definition_history (
  id          bigint NOT NULL,
  name        text NOT NULL,
  kind        text NOT NULL,
  statement   text NOT NULL,
  defined_at  timestamptz NOT NULL,
  dropped_at  timestamptz
);
CREATE INDEX definition_history_id ON definition_history (id);

CREATE SEQUENCE definition_number;

CREATE TABLE epoch_reservation (
  only_row    boolean PRIMARY KEY DEFAULT true CHECK (only_row),
  next_epoch  bigint NOT NULL
);
INSERT INTO epoch_reservation (next_epoch) VALUES (1);

-- The ledger: one row a group commit and relation, compressed by us.
CREATE TABLE ledger_segment (
  sequence        bigint NOT NULL,
  relation_id     bigint NOT NULL,
  first_position  bigint NOT NULL,
  changes         integer NOT NULL,
  raw_bytes       integer NOT NULL,
  payload         bytea NOT NULL,
  PRIMARY KEY (sequence, relation_id)
);
ALTER TABLE ledger_segment ALTER COLUMN payload SET STORAGE EXTERNAL;
CREATE INDEX ledger_segment_relation ON ledger_segment (relation_id, sequence);
